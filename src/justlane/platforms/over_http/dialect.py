"""What platforms of our own HTTP interface hold, which is what an estate says; and what a reading of one means.

A reading is data that somebody else may have written: what makes no sense in it gives nobody anything.
"""

from __future__ import annotations

import hashlib
from collections import Counter
from collections.abc import Iterable, Iterator
from datetime import date, datetime
from typing import cast

import msgspec
from msgspec.structs import replace

from justlane.engine.facts.clock import on_clock
from justlane.engine.facts.graphs import walk
from justlane.engine.facts.index import EstateIndex, PlatformIndex
from justlane.model.bindings import Binding, Ceiling, Publication, Sense
from justlane.model.circumstances import ALWAYS, CONDITION_PARTS, MINUTES_A_DAY, Condition
from justlane.model.estate import Estate, Platform
from justlane.model.findings import Source
from justlane.model.patterns import matching
from justlane.model.people import Directory, Group, LocalGroup, LocalMember, Membership, Principal, PrincipalKind, User
from justlane.model.roles import Action, Pattern, Role
from justlane.platforms.abilities import EVERY_CONDITION, Abilities, Settings
from justlane.platforms.entries import HERE, principal_of, texts
from justlane.platforms.interface import About, Declared, Dialect, Entry, Part, Reading, Sort

PARTS = ("people", "groups", "local_groups", "roles", "publications", "ceilings", "bindings")
"""What such a platform holds, in the order in which it has to be added."""

SORTS = {
    "people": Sort("person", "people", neutral=True, accounts=True),
    "groups": Sort("group", "groups", neutral=True, members=True),
    "local_groups": Sort("local group", "local groups", neutral=True, members=True, one_by_one=True),
    "roles": Sort("role", "roles", neutral=True),
}

_GIVING = ("allows", "builds_on")


class HttpDialect(Dialect):
    """Says everything that an estate says, in the same words."""

    parts = PARTS
    sorts = SORTS
    says_all = True
    abilities = Abilities(conditions=EVERY_CONDITION)
    settings = Settings(("url", "token from"), ("trust", "with"))

    def declared(self, index: EstateIndex, platform: str, moment: datetime) -> Declared:
        """All people, the groups that are named, and what the files say."""
        return declared_parts(index, platform, moment)

    def as_read(self, index: EstateIndex, platform: str, reading: Reading) -> Estate:
        """The same words, read back."""
        return as_read(index, platform, reading)

    def about(self, platform: str, part: str, name: str, entry: Entry) -> About:
        """As an estate says it; a ceiling counts everywhere."""
        about = super().about(platform, part, name, entry)
        if part == "publications":
            return replace(about, principal=Principal(PrincipalKind.GROUP, str(entry.get("group"))))
        return replace(about, place=platform) if part == "ceilings" else about

    def tries(self, platform: Platform, action: Action) -> bool:
        """On a stand-in everything; elsewhere what the estate says is harmless, since a trial really does it."""
        standing_in = platform.connection is not None and platform.connection.connector == "stand-in"
        return action.harmless is not False if standing_in else action.harmless is True

    def words(self, part: str, name: str, entry: Entry) -> str:
        """What an entry is about; the platform's own identifiers say nothing to people."""
        return in_words(part, name, entry)

    def condition(self, part: str, entry: Entry) -> Condition:
        """As platforms keep it."""
        return condition_of(entry.get("condition"))

    def unjudged(self, index: EstateIndex, platform: str, reading: Reading) -> tuple[str, ...]:
        """Bindings and the like that name what the platform itself, or the estate, does not know."""
        return tuple(_unknown(index.platform(platform).platform, reading))

    def uncounted(self, index: EstateIndex, platform: str, reading: Reading, part: str, entry: Entry) -> str:
        """What cannot be judged, since nobody knows what it names."""
        missing = missing_in(index.platform(platform).platform, reading, part, entry)
        return f"not judged: {missing}" if missing else ""

    def restricts(self, part: str, entry: Entry) -> bool:
        """Denies and ceilings."""
        return part == "ceilings" or (part == "bindings" and entry.get("deny") is True)

    def between(self, part: str, before: Entry, after: Entry) -> Entry | None:
        """A group with the members of both, a role with the actions of both, if both leave out the same."""
        if part == "roles":
            if set(texts(before.get("excepts"))) != set(texts(after.get("excepts"))):
                return None  # what one allows and the other leaves out would be allowed by neither, but by both
            both: Entry = {key: _either(texts(before.get(key)), texts(after.get(key))) for key in _GIVING}
            return {**after, **both}
        if part in ("groups", "local_groups"):
            return {**after, "members": _either(texts(before.get("members")), texts(after.get("members")))}
        return None


DIALECT = HttpDialect()


def in_words(part: str, name: str, entry: Entry) -> str:
    """One thing in words."""
    if part == "bindings":
        verb = "denied to" if entry.get("deny") else "to"
        reason = "" if entry.get("reason") or "reason" not in entry else " (no reason given)"
        return f"binding: {entry.get('role')} {verb} {entry.get('principal')} at {entry.get('scope')}{reason}"
    if part == "publications":
        return f"publication: group {entry.get('group')} to {entry.get('scope')}"
    if part == "ceilings":
        return f"ceiling: never {', '.join(texts(entry.get('patterns'))) or '?'} to {entry.get('principal')}"
    return f"{SORTS[part].one} {name}"


def _unknown(declared: Platform, reading: Reading) -> Iterator[str]:
    """What names an account, a group, a role, a place or an action that nobody knows."""
    for part in PARTS:
        for name, entry in reading.part(part).items():
            if missing := missing_in(declared, reading, part, entry):
                yield f"{in_words(part, name, entry)}: {missing}"
    for part in reading.parts:
        if part not in PARTS:
            yield f"{part}: what these are is not known"


def missing_in(declared: Platform, reading: Reading, part: str, entry: Entry) -> str:
    """What an entry names that neither the platform nor the estate knows, in words; empty if it can be judged."""
    if part == "people":
        return ""
    if part == "roles":
        patterns = [text for key in ("allows", "excepts") for text in texts(entry.get(key))]
        strange = [text for text in patterns if not matching(text, declared.actions)]
        strange += [text for text in texts(entry.get("builds_on")) if text not in reading.part("roles")]
        return f"{', '.join(strange)} is no action of the estate" if strange else ""
    known = {"role": reading.part("roles"), "scope": declared.scopes, "group": reading.part("groups")}
    missing = [f"{key} {entry[key]!r}" for key in known if key in entry and str(entry[key]) not in known[key]]
    whom = [entry["principal"]] if "principal" in entry else []
    missing += [f"{one}" for one in (*whom, *texts(entry.get("members"))) if not _is_known(reading, one)]
    return f"there is no {', no '.join(missing)}" if missing else ""


def _is_known(reading: Reading, named: object) -> bool:
    whom = principal_of(named)
    part = {"user": "people", "group": "groups", "local group": "local_groups"}.get(whom.kind.value if whom else "")
    return whom is not None and (part is None or whom.name in reading.part(part))


def _either(first: list[str], second: list[str]) -> list[str]:
    return list(dict.fromkeys((*second, *first)))


def declared_parts(index: EstateIndex, platform: str, moment: datetime) -> Declared:
    """What the platform ought to hold: all people, the groups that its bindings name with those inside
    them, its local groups, roles, publications, ceilings and bindings (but for those that are built in)."""
    prepared = index.platform(platform)
    return Declared(_parts(index, platform, moment), dict(_lines(prepared.platform, prepared)))


def _parts(index: EstateIndex, platform: str, moment: datetime) -> dict[str, Part]:
    prepared = index.platform(platform).platform
    day = on_clock(moment, index.estate.time_zone).date()
    return {
        "people": {login: {"enabled": u.is_active(day)} for login, u in index.estate.directory.users.items()},
        "groups": _groups(index, platform),
        "local_groups": {
            group.name: {
                "members": sorted(str(m.member) for m in group.members),
                "until": {str(m.member): m.last_day.isoformat() for m in group.members if m.last_day},
            }
            for group in prepared.local_groups.values()
        },
        "roles": {
            role.name: {
                "allows": [p.text for p in role.allows],
                "excepts": [p.text for p in role.excepts],
                "builds_on": [p.text for p in role.builds_on],
            }
            for role in prepared.roles.values()
        },
        "publications": {
            identifier(p.group, p.scope): {"group": p.group, "scope": p.scope} for p in prepared.publications
        },
        "ceilings": {
            _ceiling(c): {
                "principal": str(c.principal),
                "but_not": [str(left_out) for left_out in c.but_not],
                "patterns": list(c.patterns),
                "condition": plain_condition(c.condition),
                "reason": c.reason,
            }
            for c in prepared.ceilings
        },
        "bindings": _bindings(index.platform(platform)),
    }


def _groups(index: EstateIndex, platform: str) -> Part:
    """The directory's groups that the platform has to know, each with its direct members."""
    prepared = index.platform(platform)
    named = [*(b.principal for b in prepared.bindings), *prepared.platform.capped]
    named += [m.member for g in prepared.platform.local_groups.values() for m in g.members]
    known = [n for p in named if p.kind is PrincipalKind.GROUP for n in _with_nested(index, p.name)]
    known += [p.group for p in prepared.platform.publications]
    groups = index.estate.directory.groups
    inner_first = _inner_first(index, dict.fromkeys(known))
    return {name: {"members": sorted(str(m.member) for m in groups[name].members)} for name in inner_first}


def _inner_first(index: EstateIndex, names: Iterable[str]) -> list[str]:
    """Groups, each behind those that it holds; in a loop one of them has to come first."""
    found: dict[str, None] = {}
    met: set[str] = set()
    for start in names:
        waiting = [start]
        while waiting:
            name = waiting[-1]
            inner = [n for n in _held(index, name) if n not in met] if name not in met else []
            met.add(name)
            if inner:
                waiting += inner
            else:
                found.setdefault(waiting.pop())
    return list(found)


def _held(index: EstateIndex, name: str) -> Iterator[str]:
    members = index.estate.directory.groups[name].members
    return (m.member.name for m in members if m.member.kind is PrincipalKind.GROUP)


def _bindings(prepared: PlatformIndex) -> Part:
    """Bindings by identifier; where the order decides, each with its place in it."""
    return {
        name: plain_binding(b, place if prepared.ordered else 0)
        for place, (name, b) in enumerate(_named_bindings(prepared))
    }


def _named_bindings(prepared: PlatformIndex) -> Iterator[tuple[str, Binding]]:
    """Those that are not built in, each with its identifier; one that stands twice is numbered."""
    met: Counter[str] = Counter()
    for b in prepared.bindings:
        if not b.built_in:
            name = identifier(*b.key, b.effect, str(b.here_only), str(b.condition), b.bundle)
            yield (f"{name}-{met[name]}" if met[name] else name), b
            met[name] += 1


def _lines(platform: Platform, prepared: PlatformIndex) -> Iterator[tuple[tuple[str, str], tuple[Source, ...]]]:
    """The line that asks for each thing; people and groups are the directory's."""
    for name, b in _named_bindings(prepared):
        yield ("bindings", name), (b.source,)
    for role in platform.roles.values():
        yield ("roles", role.name), (role.source,)
    for group in platform.local_groups.values():
        yield ("local_groups", group.name), (group.source,)
    for p in platform.publications:
        yield ("publications", identifier(p.group, p.scope)), (p.source,)
    for c in platform.ceilings:
        yield ("ceilings", _ceiling(c)), (c.source,)


def _ceiling(c: Ceiling) -> str:
    return identifier(str(c.principal), *map(str, c.but_not), *c.patterns, str(c.condition))


def plain_binding(binding: Binding, place: int) -> Entry:
    """A binding as platforms keep it."""
    return {
        "principal": str(binding.principal),
        "role": binding.role,
        "scope": binding.scope,
        "reason": binding.reason,
        "deny": not binding.allows,
        "here_only": binding.here_only,
        "condition": plain_condition(binding.condition),
        "place": place,
        "bundle": binding.bundle,
    }


def plain_condition(condition: Condition) -> Entry:
    """A condition as platforms keep it."""
    return {
        **{part.field: part.plain(getattr(condition, part.field)) for part in CONDITION_PARTS},
        "first_day": condition.first_day.isoformat() if condition.first_day else "",
        "last_day": condition.last_day.isoformat() if condition.last_day else "",
    }


def identifier(*parts: str) -> str:
    """A name on the platform: the same thing has the same name every time."""
    return hashlib.blake2b("\n".join(parts).encode(), digest_size=8).hexdigest()


def _with_nested(index: EstateIndex, name: str) -> list[str]:
    def nested(group: str) -> Iterator[tuple[str, None]]:
        return ((inner, None) for inner in _held(index, group))

    return list(walk(name, nested))


def as_read(index: EstateIndex, platform: str, reading: Reading) -> Estate:
    """A platform that holds what was read, with the scopes, actions and habits that are declared."""
    declared = index.platform(platform).platform
    roles = _roles(reading)
    people, local_groups = reading.part("people"), reading.part("local_groups")
    held = msgspec.structs.replace(
        declared,
        roles={**roles, **_habitual(declared, roles)},
        local_groups={name: LocalGroup(name, "", _local_members(entry), HERE) for name, entry in local_groups.items()},
        publications=tuple(_publications(reading, declared)),
        ceilings=tuple(_ceilings(reading)),
    )
    built_in = tuple(b for b in index.platform(platform).bindings if b.built_in and b.role in held.roles)
    directory = Directory(
        {login: User(login, login, entry.get("enabled") is True, HERE) for login, entry in people.items()},
        {name: Group(name, "", _members(entry), HERE) for name, entry in reading.part("groups").items()},
    )
    zone = index.estate.time_zone
    bindings = (*built_in, *_held_bindings(reading, held))
    return Estate("held", "", zone, directory, {platform: held}, bindings, ())


def _habitual(declared: Platform, roles: dict[str, Role]) -> dict[str, Role]:
    """The role that an open platform gives by itself, if the platform does not hold it yet."""
    name = declared.habits.open_role
    return {name: Role(name, "", HERE)} if name and name not in roles else {}


def _members(entry: Entry) -> tuple[Membership, ...]:
    found = (principal_of(member) for member in texts(entry.get("members")))
    kinds = (PrincipalKind.GROUP, PrincipalKind.USER)
    return tuple(Membership(member, HERE) for member in found if member and member.kind in kinds)


def _local_members(entry: Entry) -> tuple[LocalMember, ...]:
    until = entry.get("until")
    ends = until if isinstance(until, dict) else {}
    return tuple(LocalMember(m.member, HERE, "", _day(ends.get(str(m.member)))) for m in _members(entry))


def _day(value: object) -> date | None:
    """A day; what is none has ended long ago."""
    try:
        return None if value is None else date.fromisoformat(str(value))
    except ValueError:
        return date.min


def _roles(reading: Reading) -> dict[str, Role]:
    """The roles; one that would build on itself, through others too, does not."""
    bases = {
        name: [base for base in texts(entry.get("builds_on")) if base in reading.part("roles")]
        for name, entry in reading.part("roles").items()
    }
    found: dict[str, Role] = {}
    for name, entry in reading.part("roles").items():
        sound = [base for base in bases[name] if not _leads_to(bases, base, name)]
        bases[name] = sound
        allows, excepts = (_patterns(texts(entry.get(key))) for key in ("allows", "excepts"))
        found[name] = Role(name, "", HERE, allows, excepts, _patterns(sound))
    return found


def _leads_to(bases: dict[str, list[str]], start: str, end: str) -> bool:
    waiting, met = [start], {start}
    while waiting:
        for base in bases[waiting.pop()]:
            if base not in met:
                met.add(base)
                waiting.append(base)
    return end in met


def _patterns(texts: Iterable[str]) -> tuple[Pattern, ...]:
    return tuple(Pattern(text, HERE) for text in texts)


def _publications(reading: Reading, declared: Platform) -> Iterable[Publication]:
    for entry in reading.part("publications").values():
        group, scope = entry.get("group"), entry.get("scope")
        if isinstance(group, str) and isinstance(scope, str) and scope in declared.scopes:
            yield Publication(group, scope, HERE)


def _ceilings(reading: Reading) -> Iterable[Ceiling]:
    for entry in reading.part("ceilings").values():
        principal = principal_of(entry.get("principal"))
        if principal is not None:
            patterns = tuple(texts(entry.get("patterns")))
            but_not = tuple(p for p in map(principal_of, texts(entry.get("but_not"))) if p)
            yield Ceiling(principal, patterns, condition_of(entry.get("condition")), "", HERE, but_not)


def _held_bindings(reading: Reading, held: Platform) -> Iterable[Binding]:
    def place(entry: Entry) -> int:
        number = entry.get("place")
        return number if isinstance(number, int) else 0

    for entry in sorted(reading.part("bindings").values(), key=place):
        principal, role, scope = principal_of(entry.get("principal")), entry.get("role"), entry.get("scope")
        known = isinstance(role, str) and role in held.roles and isinstance(scope, str) and scope in held.scopes
        if principal and known:
            effect = Sense.DENY if entry.get("deny") is True else Sense.ALLOW
            condition = condition_of(entry.get("condition"))
            here_only = entry.get("here_only") is True
            bundle = entry.get("bundle")
            called = bundle if isinstance(bundle, str) else ""
            yield Binding(principal, str(role), str(scope), "", HERE, effect, here_only, condition, bundle=called)


def condition_of(value: object) -> Condition:
    """A condition as platforms keep it; one that makes no sense asks for nothing."""
    from ipaddress import ip_network
    from zoneinfo import ZoneInfo

    if not isinstance(value, dict):
        return ALWAYS
    plain = {key: item for key, item in cast(Entry, value).items() if item not in ("", None)}
    try:
        found = msgspec.convert(plain, Condition)
        for network in (*found.networks, *found.not_networks):
            ip_network(network)
        ZoneInfo(found.time_zone or "UTC")
        minutes = [minute for span in found.hours for minute in (span.start, span.end)]
        days_make_sense = all(0 <= day <= 6 for day in found.weekdays)
        if not days_make_sense or not all(0 <= m <= MINUTES_A_DAY for m in minutes) or found.signed_in_within < 0:
            return ALWAYS
    except (msgspec.ValidationError, ValueError, KeyError, OSError):
        return ALWAYS
    return found
