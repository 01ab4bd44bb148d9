"""Looking names up while an estate is checked: what is unknown becomes a finding with the nearest real name."""

from __future__ import annotations

from collections.abc import Callable, Collection, Iterator
from ipaddress import ip_network
from zoneinfo import ZoneInfo, ZoneInfoNotFoundError

from justlane.files.people.snapshots import Former
from justlane.files.reading.estate_files import DeclaredFiles
from justlane.files.reading.shapes import WhenShape
from justlane.files.reading.yamltext import Text, Where
from justlane.model.estate import Estate, Platform
from justlane.model.findings import Finding, Severity, Source
from justlane.model.names import did_you_mean
from justlane.model.patterns import ANY, matching
from justlane.model.people import Principal, PrincipalKind
from justlane.model.scopes import platform_of

Found = Iterator[Finding]

FormerName = Callable[[str, str], Former]
"""What is known of a `group` or a `user` of a name that nobody has now."""


def error(rule: str, source: Source, message: str, hint: str = "") -> Finding:
    """A finding that stops every answer."""
    return Finding(rule, Severity.ERROR, source, message, hint)


class Lookup:
    """The names of one estate."""

    def __init__(self, estate: Estate, declared: DeclaredFiles, former: FormerName) -> None:
        self.estate = estate
        self._former = former
        self._left_out = declared.left_out()
        self._said_empty = False

    def name(self, name: str, known: Collection[str], what: str, source: Source) -> Found:
        """A name must be known; one whose own declaration is wrong is not reported a second time."""
        if name in known or not self._left_out.isdisjoint(name.split("/")):
            return
        kinds = {"group": "the directory has no", "user": "the directory has no"}
        known_before = self._former(what, name) if what in kinds else Former()
        if known_before.now:
            message = f"the {what} {name!r} is called {known_before.now!r} now"
            hint = "follow it: justlane people renames --write"
            yield Finding("renamed", Severity.ERROR, source, message, hint, name, known_before.now)
            return
        if known_before.seen:
            message = f"the directory has no {what} {name!r} any more"
            yield error("unknown-name", source, message, f"take it out: it was last seen in {known_before.seen}")
            return
        if what in kinds and not self.estate.directory.users and not self.estate.directory.groups:
            if not self._said_empty:
                hint = "see what was read: justlane people show"
                message = f"the directory holds nobody at all, no {what} {name!r} either"
                yield error("unknown-name", source, message, hint)
            self._said_empty = True
            return
        on = [p.name for p in self.estate.platforms.values() if what == "group" and name in p.local_groups]
        if on:
            hint = f"it is a local group of {' and '.join(on)}: write `local group {name}`"
        else:
            hint = did_you_mean(name, known, f"there is none at all: declare the {what}" if not known else "")
        yield error("unknown-name", source, f"{kinds.get(what, 'there is no')} {what} {name!r}", hint)

    def principal(self, principal: Principal, source: Source) -> Found:
        """A user or a group must be known to the directory."""
        people: dict[PrincipalKind, Collection[str]] = {
            PrincipalKind.GROUP: self.estate.directory.groups,
            PrincipalKind.USER: self.estate.directory.users,
        }
        if principal.kind in people:
            yield from self.name(principal.name, people[principal.kind], principal.kind, source)

    def principal_on(self, principal: Principal, platform: str, source: Source) -> Found:
        """The same, and a local group must be one of the platform's."""
        yield from self.principal(principal, source)
        if principal.kind is PrincipalKind.LOCAL_GROUP and platform in self.estate.platforms:
            known = self.estate.platforms[platform].local_groups
            yield from self.name(principal.name, known, f"local group on {platform} named", source)

    def scope(self, address: str, source: Source) -> Found:
        """A scope's platform and the scope itself must be declared."""
        platform = self.estate.platforms.get(platform_of(address))
        if platform is None:
            yield from self.name(platform_of(address), self.estate.platforms, "platform", source)
        else:
            yield from self.scope_on(platform, address, source)

    def scope_on(self, platform: Platform, address: str, source: Source) -> Found:
        """A scope must be one of a platform's; a pattern that stands for some is not asked about any more."""
        if ANY in address and address not in platform.scopes:
            hint = "a pattern that matches nothing is a mistake: `*` stays within one name, `**` goes over levels"
            yield error("empty-pattern", source, f"no scope of {platform.name} is like {address!r}", hint)
        else:
            yield from self.name(address, platform.scopes, "scope", source)

    def role(self, role: str, address: str, source: Source) -> Found:
        """A role must be one of the platform that an address belongs to."""
        name = platform_of(address)
        if name in self.estate.platforms:
            yield from self.name(role, self.estate.platforms[name].roles, f"role on {name} named", source)

    def pattern(self, platform: Platform, pattern: str, source: Source) -> Found:
        """An action must exist, and a pattern match at least one."""
        yield from self._like(platform, platform.actions, "action", pattern, source)

    def role_pattern(self, platform: Platform, pattern: str, source: Source) -> Found:
        """The same of a role."""
        yield from self._like(platform, platform.roles, "role", pattern, source)

    def _like(self, platform: Platform, known: Collection[str], what: str, pattern: str, source: Source) -> Found:
        if "*" not in pattern:
            yield from self.name(pattern, known, what, source)
        elif not matching(pattern, known):
            hint = "a pattern that matches nothing is a mistake: take it out or correct it"
            yield error("empty-pattern", source, f"no {what} of {platform.name} matches {pattern!r}", hint)

    def network(self, network: str, source: Source) -> Found:
        """A network must be one, in CIDR."""
        try:
            ip_network(network)
        except ValueError as wrong:
            hint = "write a network such as 192.0.2.0/24 or 2001:db8::/32"
            yield error("wrong-value", source, f"{network!r} is not a network: {wrong}", hint)

    def when(self, text: Text, where: Where, shape: WhenShape | None) -> Found:
        """Networks must be networks, and a time zone one that exists."""
        named = (("from network", shape.networks), ("not from network", shape.not_networks)) if shape else ()
        for key, some in named:
            for place, network in enumerate(some):
                yield from self.network(network, text.source(*where, key, place))
        if shape and shape.time_zone and not is_time_zone(shape.time_zone):
            yield no_time_zone(shape.time_zone, text.source(*where, "time zone"))


def is_time_zone(name: str) -> bool:
    """Whether there is an IANA time zone of that name."""
    try:
        return bool(ZoneInfo(name).key)
    except (ZoneInfoNotFoundError, ValueError, OSError):
        return False


def no_time_zone(name: str, source: Source) -> Finding:
    """There is no such time zone."""
    return error(
        "unknown-name", source, f"there is no time zone {name!r}", "write an IANA name, such as Europe/Amsterdam"
    )
