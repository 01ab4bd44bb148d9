"""Platforms: habits, actions, scopes, roles, local groups, publications and ceilings."""

from __future__ import annotations

from collections.abc import Collection, Mapping
from types import MappingProxyType

from justlane.engine.facts.coverage import CoverageIndex
from justlane.engine.facts.graphs import loops
from justlane.engine.facts.roles import RoleIndex
from justlane.files.building.accounts import accounts_checked
from justlane.files.building.bindings import principal_of
from justlane.files.building.gathered import KIND, attributes_named
from justlane.files.building.lookup import FormerName, Found, Lookup, error
from justlane.files.reading.estate_files import DeclaredFiles
from justlane.files.reading.shapes import PlatformFile, ScopeShape
from justlane.files.reading.yamltext import Text, Where
from justlane.model.estate import Decides, Estate, Platform
from justlane.model.findings import Finding, Severity
from justlane.model.patterns import ANY, is_like, matching
from justlane.model.scopes import PLATFORM_KIND, RESOURCE_GROUP_KIND, contains


def check_platforms(
    estate: Estate,
    declared: DeclaredFiles,
    former: FormerName,
    names: Collection[str],
    unmoved: Mapping[str, Collection[str]] = MappingProxyType({}),
) -> list[Finding]:
    """Everything about some platforms but their bindings; the places of those that are `unmoved`, each with the kinds
    that it has, are known to be sound."""
    lookup = Lookup(estate, declared, former)
    found: list[Finding] = []
    for text, file in declared.of(PlatformFile):
        platform = lookup.estate.platforms[file.platform]
        found += _habits(lookup, text, file, platform)
        found += _conditions(lookup, text, file, platform)
        found += _own_groups(lookup, text, file, platform)
        found += _managed(lookup, text, platform)
        found += accounts_checked(lookup, platform)
    for platform in (estate.platforms[name] for name in names):
        kinds = unmoved.get(platform.name) or {scope.kind for scope in platform.scopes.values()}
        found += _actions(lookup, platform, kinds)
        found += _administration(lookup, platform)
        found += _settings(lookup, platform)
        found += _scopes(lookup, platform) if platform.name not in unmoved else ()
        found += _roles(lookup, platform)
    return found


def _habits(lookup: Lookup, text: Text, file: PlatformFile, platform: Platform) -> Found:
    habits = platform.habits
    for key, action in (("sign-in", habits.sign_in), ("on the way", habits.on_the_way)):
        if action:
            yield from lookup.name(action, platform.actions, "action", text.source("habits", key))
    if habits.open_role:
        yield from lookup.name(habits.open_role, platform.roles, "role", text.source("habits", "unbound"))
    if habits.sign_in in platform.actions and not platform.actions[habits.sign_in].applies(PLATFORM_KIND):
        message = f"nobody can sign in: {habits.sign_in} does not apply to a {PLATFORM_KIND}"
        yield error("not-applicable", text.source("habits", "sign-in"), message, "let it apply to the platform")
    if "habits" not in file.model_fields_set:
        message = f"{platform.name} does not say how it decides: it is taken for any-allow, closed until bound"
        hint = "say it under `habits` before you rely on an answer"
        yield Finding("habits-not-said", Severity.WARNING, text.source("platform"), message, hint)
    nearest = habits.decides is Decides.NEAREST
    groups = [s for s in platform.scopes.values() if s.kind == RESOURCE_GROUP_KIND] if nearest else []
    if groups:
        message = "a platform where the nearest scope decides has no resource groups"
        yield error("no-resource-groups", groups[0].source, message, "bind at the scopes themselves")


def _conditions(lookup: Lookup, text: Text, file: PlatformFile, platform: Platform) -> Found:
    for place, shape in enumerate(file.ceilings):
        for j, pattern in enumerate(shape.never):
            yield from lookup.pattern(platform, pattern, text.source("ceilings", place, "never", j))
        for key, some in (("to", shape.to), ("but not to", shape.but_not_to)):
            for j, to in enumerate(some):
                source = text.source("ceilings", place, key, j)
                yield from lookup.principal_on(principal_of(to), platform.name, source)
        yield from lookup.when(text, ("ceilings", place, "when"), shape.when)
    for name, scope in file.scopes.items():
        yield from _where(lookup, text, platform, f"{platform.name}/{name}", scope, ("scopes", name))


def _settings(lookup: Lookup, platform: Platform) -> Found:
    for setting in platform.settings:
        yield from lookup.principal_on(setting.principal, platform.name, setting.source)


def _managed(lookup: Lookup, text: Text, platform: Platform) -> Found:
    """What is managed has to be there: what matches nothing would leave alone what somebody means to look after."""
    managed = platform.manages
    if managed is None:
        return
    if not (managed.places or managed.roles or managed.accounts):
        hint = "name places, roles or accounts, or take it out: then it is all"
        yield error("wrong-value", managed.source, "`manages` names nothing", hint)
    if platform.habits.decides is Decides.LAST_MATCH:
        message = f"every line of {platform.name} counts for every other, since the last match decides"
        yield error("wrong-value", managed.source, message, "take `manages` out: such a platform is managed as a whole")
    for address in managed.places:
        yield from lookup.name(address, platform.scopes, "scope", managed.source)
    for n, role in enumerate(managed.roles):
        yield from lookup.role_pattern(platform, role, text.source("manages", "roles", n))
    for n, account in enumerate(managed.accounts):
        kind, _, name = account.partition(" ")
        source = text.source("manages", "accounts", n)
        users, groups = lookup.estate.directory.users, lookup.estate.directory.groups
        if kind == "group" and name:
            yield from lookup.name(name, groups, "group", source)
        elif kind == "user" and ANY in name:
            if not any(is_like(name, login) for login in users):
                hint = "correct it, or take it out"
                yield error("empty-pattern", source, f"the directory has no user like {name!r}", hint)
        elif kind == "user" and name:
            yield from lookup.name(name, users, "user", source)
        elif kind != "user" or not name:
            hint = "write `user NAME`, where * is any run of characters, or `group NAME`"
            yield error("wrong-value", source, f"{account!r} is no account", hint)


def _administration(lookup: Lookup, platform: Platform) -> Found:
    for pattern in platform.administration.actions if platform.administration else ():
        yield from lookup.pattern(platform, pattern.text, pattern.source)


def _where(lookup: Lookup, text: Text, platform: Platform, address: str, shape: ScopeShape, here: Where) -> Found:
    """A condition must ask about attributes that there are, and gather something."""
    if shape.gathers_where is not None:
        source = text.key(*here, "gathers where")
        known = {KIND, *(name for scope in platform.scopes.values() for name in scope.attributes)}
        unknown = sorted(attributes_named(shape.gathers_where) - known)
        for name in unknown:
            yield from lookup.name(name, known, "attribute", source)
        if not unknown and not any(item.source == source for item in platform.scopes[address].gathers):
            message = f"nothing fulfils what {address} gathers"
            yield error("empty-pattern", source, message, "correct the condition, or take it out")
    for name, inner in shape.holds.items():
        yield from _where(lookup, text, platform, f"{address}/{name}", inner, (*here, "holds", name))


def _own_groups(lookup: Lookup, text: Text, file: PlatformFile, platform: Platform) -> Found:
    for group in platform.local_groups.values():
        for member in group.members:
            yield from lookup.principal(member.member, member.source)
    if file.published and not platform.habits.publication:
        message = f"{platform.name} needs no publication: what is published changes nothing"
        hint = "take it out, or say `publication: needed` among its habits"
        yield Finding("no-effect", Severity.WARNING, text.key("published"), message, hint)
    for place, shape in enumerate(file.published):
        yield from lookup.name(
            shape.group, lookup.estate.directory.groups, "group", text.source("published", place, "group")
        )
        for j, address in enumerate(shape.to):
            source = text.source("published", place, "to", j)
            yield from lookup.scope(address, source)
            if not contains(platform.name, address):
                yield error("wrong-value", source, f"{address} is not on {platform.name}", "publish to its own scopes")


def _actions(lookup: Lookup, platform: Platform, kinds: Collection[str]) -> Found:
    named_elsewhere = platform.connection is not None and platform.connection.connector not in ("http", "stand-in")
    for action in platform.actions.values():
        for implied in action.implies:
            yield from lookup.name(implied.text, platform.actions, "action", implied.source)
        for kind in action.applies_to if not named_elsewhere else ():  # a rule asks what such a platform has
            yield from lookup.name(kind, kinds, "scope of the kind", action.source)


def _scopes(lookup: Lookup, platform: Platform) -> Found:
    sound = True
    for scope in platform.scopes.values():
        if scope.kind == PLATFORM_KIND and scope.parent:
            message = f"found a scope of kind {PLATFORM_KIND!r} inside a platform"
            yield error("wrong-value", scope.source, message, "name its kind in the platform's own word")
        if scope.owner:
            yield from lookup.principal(scope.owner, scope.owner_source or scope.source)
        if scope.gathers and scope.kind != RESOURCE_GROUP_KIND:
            message = f"a scope of kind {scope.kind!r} gathers others; only a {RESOURCE_GROUP_KIND} does"
            yield error("wrong-value", scope.source, message, f"write `is: {RESOURCE_GROUP_KIND}`")
        for item in scope.gathers:
            sound = sound and item.address in platform.scopes
            yield from lookup.scope_on(platform, item.address, item.source)
    for loop in CoverageIndex(platform.scopes).loops() if sound else ():
        source = platform.scopes[loop[0]].source
        message = f"these scopes cover each other: {', '.join(loop)}"
        yield error("scope-loop", source, message, "take one out of the other's `gathers`")


def _roles(lookup: Lookup, platform: Platform) -> Found:
    """The roles of a platform: what they allow, except and build on."""
    sound = True
    for role in platform.roles.values():
        for base in role.builds_on:
            sound = sound and base.text in platform.roles
            yield from lookup.name(base.text, platform.roles, "role", base.source)
        for pattern in (*role.allows, *role.ships_with):
            yield from lookup.pattern(platform, pattern.text, pattern.source)
        if role.owner:
            yield from lookup.principal(role.owner, role.owner_source or role.source)
        if role.copied_from:
            yield from lookup.name(role.copied_from, platform.roles, "role", role.source)

    def bases(name: str) -> list[str]:
        return [b.text for b in platform.roles[name].builds_on if b.text in platform.roles]

    for loop in loops(platform.roles, bases):
        sound = False
        message = f"these roles build on each other: {', '.join(loop)}"
        yield error("role-loop", platform.roles[loop[0]].source, message, "let one of them stand on its own")
    if sound and all(i.text in platform.actions for a in platform.actions.values() for i in a.implies):
        yield from _exceptions(lookup, platform)


def _exceptions(lookup: Lookup, platform: Platform) -> Found:
    index = RoleIndex(platform.roles, platform.actions)
    for role in platform.roles.values():
        before = index.before_exceptions(role.name)
        for pattern in role.excepts:
            if "*" not in pattern.text:
                yield from lookup.name(pattern.text, platform.actions, "action", pattern.source)
            if not matching(pattern.text, before) and ("*" in pattern.text or pattern.text in platform.actions):
                message = f"the role {role.name!r} excepts {pattern.text!r}, but would not hold it anyway"
                yield error("empty-pattern", pattern.source, message, "take it out, or allow more")
        for kept, gone in index.halves(role.name):
            message = f"the role {role.name!r} excepts {gone}, but keeps {kept}, which implies it"
            yield error("half-excepted", role.source, message, f"except {kept} too, or keep {gone}")
