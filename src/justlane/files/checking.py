"""Names and references: everything that is named must exist, and every pattern must match something."""

from __future__ import annotations

from collections.abc import Collection, Iterator
from zoneinfo import ZoneInfo, ZoneInfoNotFoundError

from justlane.engine.coverage import CoverageIndex
from justlane.engine.graphs import loops
from justlane.engine.roles import RoleIndex, matching
from justlane.files.building import FileWithBindings, duties_of, principal_of, with_bindings
from justlane.files.declared import DeclaredFiles
from justlane.files.shapes import RolesFile
from justlane.files.yamltext import Text
from justlane.model.estate import Binds, Estate, Platform
from justlane.model.findings import Finding, Severity, Source
from justlane.model.names import did_you_mean
from justlane.model.people import Principal, PrincipalKind
from justlane.model.scopes import PLATFORM_KIND, RESOURCE_GROUP_KIND, platform_of

Found = Iterator[Finding]


def check_names(estate: Estate, declared: DeclaredFiles) -> list[Finding]:
    """Everything that is named and does not exist, and what is declared so that it cannot work."""
    checker = _Checker(estate, declared.left_out())
    found = list(checker.root(declared))
    for text, file in declared.of(RolesFile):
        found += checker.name(file.roles_for, estate.platforms, "platform", text.source("roles for"))
    for platform in estate.platforms.values():
        found += checker.platform(platform)
    for text, file_with_bindings in with_bindings(declared):
        found += checker.bindings(text, file_with_bindings)
        found += checker.expectations(text, file_with_bindings)
    return found


def error(rule: str, source: Source, message: str, hint: str = "") -> Finding:
    """A finding that stops every answer."""
    return Finding(rule, Severity.ERROR, source, message, hint)


class _Checker:
    def __init__(self, estate: Estate, left_out: set[str]) -> None:
        self._estate = estate
        self._left_out = left_out
        self._given: dict[tuple[str, str, str], Source] = {}

    def root(self, declared: DeclaredFiles) -> Found:
        try:
            ZoneInfo(self._estate.time_zone)
        except (ZoneInfoNotFoundError, ValueError, OSError):
            source = declared.files[0].text.source("time zone")
            message = f"there is no time zone {self._estate.time_zone!r}"
            yield error("unknown-name", source, message, "write an IANA name, such as Europe/Amsterdam")

    def name(self, name: str, known: Collection[str], what: str, source: Source) -> Found:
        """A name must be known; one whose own declaration is wrong is not reported a second time."""
        if name in known or not self._left_out.isdisjoint(name.split("/")):
            return
        kinds = {"group": "the directory has no", "user": "the directory has no"}
        hint = did_you_mean(name, known, f"there is none at all: declare the {what}" if not known else "")
        yield error("unknown-name", source, f"{kinds.get(what, 'there is no')} {what} {name!r}", hint)

    def principal(self, principal: Principal, source: Source) -> Found:
        people: dict[PrincipalKind, Collection[str]] = {
            PrincipalKind.GROUP: self._estate.directory.groups,
            PrincipalKind.USER: self._estate.directory.users,
        }
        if principal.kind in people:
            yield from self.name(principal.name, people[principal.kind], principal.kind, source)

    def scope(self, address: str, source: Source) -> Found:
        platform = self._estate.platforms.get(platform_of(address))
        if platform is None:
            names = self._estate.platforms
            yield from self.name(platform_of(address), names, "platform", source)
        else:
            yield from self.name(address, platform.scopes, "scope", source)

    def platform(self, platform: Platform) -> Found:
        kinds = {scope.kind for scope in platform.scopes.values()}
        for action in platform.actions.values():
            for implied in action.implies:
                yield from self.name(implied, platform.actions, "action", action.source)
            for kind in action.applies_to:
                yield from self.name(kind, kinds, "scope of the kind", action.source)
        yield from self._scopes(platform)
        yield from self._roles(platform)

    def _scopes(self, platform: Platform) -> Found:
        sound = True
        for scope in platform.scopes.values():
            if scope.kind == PLATFORM_KIND and scope.parent:
                yield error(
                    "wrong-value",
                    scope.source,
                    f"found a scope of kind {PLATFORM_KIND!r} inside a platform",
                    "name its kind in the platform's own word",
                )
            if scope.gathers and scope.kind != RESOURCE_GROUP_KIND:
                message = f"a scope of kind {scope.kind!r} gathers others; only a {RESOURCE_GROUP_KIND} does"
                yield error("wrong-value", scope.source, message, f"write `is: {RESOURCE_GROUP_KIND}`")
            for item in scope.gathers:
                unknown = list(self.name(item.address, platform.scopes, "scope", item.source))
                sound = sound and item.address in platform.scopes
                yield from unknown
        for loop in CoverageIndex(platform.scopes).loops() if sound else ():
            source = platform.scopes[loop[0]].source
            yield error(
                "scope-loop",
                source,
                f"these scopes cover each other: {', '.join(loop)}",
                "take one out of the other's `gathers`",
            )

    def _roles(self, platform: Platform) -> Found:
        sound = True
        for role in platform.roles.values():
            for base in role.builds_on:
                sound = sound and base.text in platform.roles
                yield from self.name(base.text, platform.roles, "role", base.source)
            for pattern in role.allows:
                yield from self._pattern(platform, pattern.text, pattern.source)
            if role.owner:
                yield from self.principal(role.owner, role.source)
        for loop in loops(
            platform.roles, lambda name: [b.text for b in platform.roles[name].builds_on if b.text in platform.roles]
        ):
            sound = False
            yield error(
                "role-loop",
                platform.roles[loop[0]].source,
                f"these roles build on each other: {', '.join(loop)}",
                "let one of them stand on its own",
            )
        if sound and all(i in platform.actions for a in platform.actions.values() for i in a.implies):
            yield from self._exceptions(platform)

    def _pattern(self, platform: Platform, pattern: str, source: Source) -> Found:
        if "*" not in pattern:
            yield from self.name(pattern, platform.actions, "action", source)
        elif not matching(pattern, platform.actions):
            yield error(
                "empty-pattern",
                source,
                f"no action of {platform.name} matches {pattern!r}",
                "a pattern that matches nothing is a mistake: take it out or correct it",
            )

    def _exceptions(self, platform: Platform) -> Found:
        index = RoleIndex(platform.roles, platform.actions)
        for role in platform.roles.values():
            before, after = index.before_exceptions(role.name), index.holdings(role.name)
            for pattern in role.excepts:
                if "*" not in pattern.text:
                    yield from self.name(pattern.text, platform.actions, "action", pattern.source)
                if not matching(pattern.text, before) and ("*" in pattern.text or pattern.text in platform.actions):
                    yield error(
                        "empty-pattern",
                        pattern.source,
                        f"the role {role.name!r} excepts {pattern.text!r}, but would not hold it anyway",
                        "take it out, or allow more",
                    )
            for kept in after:
                for gone in (a for a in platform.actions[kept].implies if a not in after):
                    hint = f"except {kept} too, or keep {gone}"
                    yield error(
                        "half-excepted",
                        role.source,
                        f"the role {role.name!r} excepts {gone}, but keeps {kept}, which implies it",
                        hint,
                    )

    def bindings(self, text: Text, file: FileWithBindings) -> Found:
        for place, shape in enumerate(file.bindings):
            for j, principal in enumerate(shape.to):
                yield from self._to(principal_of(principal), shape.at, text.source("bindings", place, "to", j))
            for j, address in enumerate(shape.at):
                yield from self.scope(address, text.source("bindings", place, "at", j))
            for j, role in enumerate(shape.give):
                for platform in dict.fromkeys(map(platform_of, shape.at)):
                    if platform in self._estate.platforms:
                        roles = self._estate.platforms[platform].roles
                        yield from self.name(
                            role, roles, f"role on {platform} named", text.source("bindings", place, "give", j)
                        )
            yield from self._twice(text, place, [(p, r, s) for p in shape.to for r in shape.give for s in shape.at])

    def _to(self, principal: Principal, addresses: tuple[str, ...], source: Source) -> Found:
        yield from self.principal(principal, source)
        if principal.kind is PrincipalKind.USER:
            for platform in {platform_of(a) for a in addresses} & set(self._estate.platforms):
                if self._estate.platforms[platform].habits.binds is Binds.GROUPS:
                    yield error(
                        "groups-only",
                        source,
                        f"{platform} binds groups only, found {principal}",
                        "bind a group that holds the user",
                    )

    def _twice(self, text: Text, place: int, keys: list[tuple[str, str, str]]) -> Found:
        source = text.source("bindings", place)
        for key in keys:
            first = self._given.get(key)
            self._given.setdefault(key, source)
            if first is not None:
                to, role, at = key
                yield error(
                    "same-binding-twice",
                    source,
                    f"{role} is given to {to} at {at} a second time",
                    f"it is given at {first.line_address} already",
                )

    def expectations(self, text: Text, file: FileWithBindings) -> Found:
        for place, shape in enumerate(file.expectations):
            if shape.user is not None:
                yield from self.principal(
                    Principal(PrincipalKind.USER, shape.user), text.source("expectations", place, "user")
                )
            if shape.only is not None:
                yield from self.principal(principal_of(shape.only), text.source("expectations", place, "only"))
            key = next(k for k in ("may", "may not", "nobody may both") if ("expectations", place, k) in text.values)
            for j, duty in enumerate(duties_of(shape)):
                source = text.source("expectations", place, key, j)
                scope_key = "at" if shape.at is not None else "anywhere in" if shape.anywhere_in is not None else key
                unknown = list(self.scope(duty.scope, text.source("expectations", place, scope_key)))
                yield from unknown if j == 0 or scope_key == key else ()
                if not unknown and platform_of(duty.scope) in self._estate.platforms:
                    yield from self._duty(duty.action, duty.scope, duty.anywhere, source)

    def _duty(self, action: str, address: str, anywhere: bool, source: Source) -> Found:
        platform = self._estate.platforms[platform_of(address)]
        yield from self.name(action, platform.actions, f"action on {platform.name} named", source)
        if anywhere or action not in platform.actions or address not in platform.scopes:
            return
        kind = platform.scopes[address].kind
        if not platform.actions[action].applies(kind):
            kinds = ", ".join(platform.actions[action].applies_to)
            yield error(
                "not-applicable",
                source,
                f"{action} does not apply to a {kind}, only to: {kinds}",
                "write `anywhere in:` to mean the scopes below",
            )
