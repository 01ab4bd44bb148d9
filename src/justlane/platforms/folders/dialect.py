"""What folders and files with access control lists are told and say.

Such a list decides by the first that fits: the owner's entry, the person's own, those of their groups (any that gives
what is asked for), the others'. So everybody who may do something at a place is named there once, by groups whose
people may all do at least that, or themselves; others are given nothing. What a folder says it also says for all that
is made in it later (its default list).
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from datetime import datetime

from msgspec.structs import replace

from justlane.engine.facts.index import EstateIndex
from justlane.model.estate import Estate
from justlane.model.findings import Source
from justlane.model.people import Principal, PrincipalKind
from justlane.platforms import plain_grants
from justlane.platforms.abilities import Abilities, Beyond, Settings
from justlane.platforms.computed import Rights, in_names, lines_at, members_of, outcomes
from justlane.platforms.differences import step_of
from justlane.platforms.entries import texts
from justlane.platforms.interface import Declared, Dialect, Entry, Part, Reading, Sort, Step

FOLDER, FILE = "folder", "file"
LETTERS: Mapping[str, Mapping[str, str]] = {
    FOLDER: {"list": "r", "change": "w", "enter": "x"},
    FILE: {"read": "r", "write": "w", "run": "x"},
}
"""Kind of place -> action -> its letter in a list."""
MOST_ENTRIES = 400
"""So many entries fit on one file everywhere; some 500 on common file systems."""


SORTS = {
    "groups": Sort("group", "groups", members=True),
    "lists": Sort("entry of a list", "entries of lists"),
    "defaults": Sort("entry of a default list", "entries of default lists"),
}


class FoldersDialect(Dialect):
    """Lists of places, and the machine's groups, which are not ours to change."""

    parts = ("groups", "owners", "sticky", "lists", "defaults", "left_alone")
    sorts = SORTS
    only_shown = frozenset(("groups", "owners", "sticky"))
    beside = frozenset(("groups", "left_alone"))
    exact = "exactly"
    everybody_signs_in = False
    settings = Settings(("folder",), ("leave alone",))
    abilities = Abilities(
        habits=frozenset(("unbound", "sign-in")),
        required=(("on the way", "enter"),),
        conditions=frozenset(),
        principals=frozenset((PrincipalKind.GROUP, PrincipalKind.USER)),
        means=frozenset(("here only", "deny", "resource groups", "ceilings")),
        actions=tuple((action, (kind,)) for kind, at in LETTERS.items() for action in at),
        kinds=frozenset(LETTERS),
        implies=(("list", "enter"), ("change", "enter")),
    )

    def declared(self, index: EstateIndex, platform: str, moment: datetime) -> Declared:
        """One entry for each name at each place."""
        prepared = index.platform(platform)
        members = dict(members_of(index, platform, moment))
        lists: Part = {}
        defaults: Part = {}
        lines: dict[tuple[str, str], tuple[Source, ...]] = {}
        groups: set[str] = set()
        every_line = tuple(dict.fromkeys(b.source for b in prepared.bindings if not b.built_in)) or lines_at(
            prepared, platform
        )
        found = outcomes(index, platform, moment)
        everybody = {login for outcome in found.values() for login in outcome.people}
        for address, outcome in found.items():
            kind = _kind(index, platform, address)
            asked = {login: letters_of(kind, actions) for login, actions in outcome.people.items()}
            if address == platform:  # whoever may do something inside has to come in
                asked = dict.fromkeys(sorted(everybody), frozenset("x"))
            held = {login: rights for login, rights in asked.items() if rights}
            said = _said(held, members)
            groups |= {to[6:] for to in said if to.startswith("group ")}
            for to, rights in said.items():
                name = f"{address} {to}"
                lists[name] = {"place": address, "to": to, "rights": rights_text(rights)}
                lines["lists", name] = lines_at(prepared, address, to) if address != platform else every_line
                if kind == FOLDER:
                    defaults[name] = dict(lists[name])
                    lines["defaults", name] = lines["lists", name]
        held_groups: Part = {name: {"members": sorted(members[name])} for name in sorted(groups)}
        return Declared({"groups": held_groups, "lists": lists, "defaults": defaults}, lines)

    def as_read(self, index: EstateIndex, platform: str, reading: Reading) -> Estate:
        """What the lists give, as the machine weighs them, person by person."""
        members = _members(reading)
        users = [login for login, user in index.estate.directory.users.items() if user.enabled]
        directory = plain_grants.directory_of(users, {})
        return plain_grants.estate_of(index, platform, directory, _given(index, platform, reading, users, members))

    def words(self, part: str, name: str, entry: Entry) -> str:
        """As a list says it."""
        if part == "groups":
            return f"members of the machine's group {name}: its own directory has to say who"
        if part == "owners":
            return f"{entry.get('owner')} owns {entry.get('place')} with {entry.get('rights')}, and may change its list"
        if part == "sticky":
            return f"{entry.get('place')} is sticky: whoever may change it removes only what is their own (chmod -t)"
        if part == "exactly":
            return f"the lists of {entry.get('place')}, exactly as they were"
        if part == "left_alone":
            later = " and all that is made in it" if entry.get("part") == "defaults" else ""
            return f"{entry.get('rights')} on {entry.get('place')}{later} to {entry.get('to')}, which is left alone"
        later = " and all that is made in it" if part == "defaults" else ""
        return f"{entry.get('rights')} on {entry.get('place')}{later} to {entry.get('to')}"

    def alike(self, part: str, held: Entry | None, wanted: Entry | None) -> bool:
        """What a mask lets through counts."""
        also = {"skipped": False} if part == "left_alone" else {}  # what is kept has an entry that is looked at
        sides = [
            e and {**e, "rights": e.get("effective", e.get("rights")), "effective": "", **also} for e in (held, wanted)
        ]
        return sides[0] == sides[1]

    def settled(self, reading: Reading, steps: Sequence[Step], *, back: bool = False) -> list[Step]:
        """Places that cannot be opened, and those that are one and would have to be two, are for somebody's hands;
        accounts that are left alone keep what they can do."""
        found = list(steps)
        if back:
            return found
        at = _at(reading.after(s for s in found if not s.by_hand))
        apart: dict[str, str] = {}
        for address, entry in reading.part("shared").items():
            unlike = [other for other in texts(entry.get("with")) if at.get(other) != at.get(address)]
            if unlike:
                apart[address] = f"{address} and {', '.join(unlike)} are one file, and are to have different lists"
        for address, entry in reading.part("unjudged").items():
            apart[address] = str(entry.get("says"))
        found = [_for_hands(step, apart) for step in found]
        return [*_kept(reading, found), *found]

    def remarks(self, reading: Reading, steps: Sequence[Step]) -> tuple[str, ...]:
        """Places that are one and the same, here and elsewhere."""
        touched = {str((s.after or s.before or {}).get("place")) for s in steps if not s.by_hand}
        said: list[str] = []
        for address, entry in reading.part("shared").items():
            others, more = texts(entry.get("with")), entry.get("elsewhere")
            if address in touched and (not others or address < min(others)):
                same = f"is the same file as {', '.join(others)}" if others else ""
                also = f"has {more} more name{'s' * (more != 1)} that nobody declared" if more else ""
                said.append(f"{address} {' and '.join(filter(None, (same, also)))}: what is set here holds there")
        return tuple(said)

    def strokes(self, reading: Reading, steps: tuple[Step, ...]) -> tuple[tuple[Step, ...], ...]:
        """Place by place, all of one in one stroke. Where some places take and others give, first each is set to what
        people had and will have: else somebody could come through an opened folder to a place not closed yet."""
        after = reading.after(steps)
        touched = {str((s.after or s.before or {}).get("place")) for s in steps}
        between = _between(reading, after)
        first: list[Step] = []
        for part in ("lists", "defaults"):
            here, middle = reading.part(part), between.part(part)
            for name in dict.fromkeys((*here, *middle)):
                concerned = (here.get(name) or middle.get(name) or {}).get("place") in touched
                if concerned and here.get(name) != middle.get(name) and middle != after.part(part):
                    first.append(self._step(part, name, here.get(name), middle.get(name)))
        first = [*(s for s in steps if s.keeps), *first] if first else []
        now = reading.after(first)
        rest = [
            replace(
                self._step(s.part, s.name, now.part(s.part).get(s.name), s.after),
                lines=s.lines,
                what=s.what,
                keeps=s.keeps,
            )
            for s in steps
            if now.part(s.part).get(s.name) != s.after
        ]
        names = {(s.part, s.name) for s in steps}
        rest += [
            self._step(s.part, s.name, s.after, after.part(s.part).get(s.name))
            for s in first
            if (s.part, s.name) not in names and s.after != after.part(s.part).get(s.name)
        ]
        return (*_by_place(first), *_by_place(rest))

    def _step(self, part: str, name: str, before: Entry | None, after: Entry | None) -> Step:
        return step_of(self, part, name, before, after)

    def example_places(self) -> dict[str, str]:
        """Folders and files."""
        return {"a": FOLDER, "a/b": FOLDER, "a/b/f": FILE, "a/g": FILE, "c": FOLDER}

    def unjudged(self, index: EstateIndex, platform: str, reading: Reading) -> tuple[str, ...]:
        """Places that are not there, and links."""
        return tuple(str(entry.get("says")) for entry in reading.part("unjudged").values())

    def more_beyond(self, index: EstateIndex, platform: str) -> Iterator[Beyond]:
        """Places with more entries than fit."""
        prepared = index.platform(platform)
        for scope in prepared.platform.scopes.values():
            count = sum(b.principal.kind is PrincipalKind.USER for b in prepared.covering_bindings(scope.address))
            if count > MOST_ENTRIES:
                message = f"a folders platform cannot express {count:,} people at one place"
                yield Beyond(scope.source, message, "bind groups", (scope.address,))


def letters_of(kind: str, actions: Rights) -> Rights:
    """The letters of some actions at a kind of place."""
    return frozenset(letter for action, letter in LETTERS[kind].items() if action in actions)


def rights_text(rights: Rights) -> str:
    """`r-x`."""
    return "".join(letter if letter in rights else "-" for letter in "rwx")


def _kind(index: EstateIndex, platform: str, address: str) -> str:
    """The platform itself is a folder too."""
    return FOLDER if address == platform else index.platform(platform).platform.scopes[address].kind


_Given = Iterator[tuple[Principal, frozenset[str], str, bool]]


def _given(
    index: EstateIndex, platform: str, reading: Reading, users: list[str], members: Mapping[str, set[str]]
) -> _Given:
    at = _at(reading)
    inside = {login for login in users if "x" in _weighed(login, at.get(platform, {}), members)}
    sticky = {str(e.get("place")): str(e.get("owner")) for e in reading.part("sticky").values()}
    for address, said in at.items():
        if address == platform or address not in index.platform(platform).platform.scopes:
            continue
        kind = _kind(index, platform, address)
        for login in (u for u in users if u in inside):
            letters = _weighed(login, said, members)
            actions = frozenset(action for action, letter in LETTERS[kind].items() if letter in letters)
            if sticky.get(address, login) != login:
                actions -= {"change"}  # they may make things there, and not remove what belongs to others
            if actions:
                yield Principal(PrincipalKind.USER, login), actions, address, True


def _weighed(login: str, said: Mapping[str, str], members: Mapping[str, set[str]]) -> str:
    """What a list gives to one person: the first sort of entry that is for them."""
    for own in (f"owner {login}", f"user {login}"):
        if own in said:
            return said[own]
    mine = [rights for to, rights in said.items() if to.startswith("group ") and login in members.get(to[6:], ())]
    return "".join(mine) if mine else said.get("others", "")


def _for_hands(step: Step, apart: Mapping[str, str]) -> Step:
    """A step that cannot be made, with why."""
    place = str((step.after or step.before or {}).get("place"))
    if step.by_hand or place not in apart:
        return step
    return replace(step, by_hand=True, what=f"{step.what}: not set, since {apart[place]}")


def _kept(reading: Reading, steps: Sequence[Step]) -> Iterator[Step]:
    """Entries for accounts that are left alone, where they would lose or gain by what else is set."""
    accounts = reading.part("accounts")
    if not accounts:
        return
    ours = [step for step in steps if not step.by_hand]
    touched = {str((step.after or step.before or {}).get("place")) for step in ours}
    after = reading.after(ours)
    looked_at = [
        ("left_alone", name, {**entry, "skipped": False})  # once a list is written, its mask is not empty
        for name, entry in reading.part("left_alone").items()
        if entry.get("place") in touched
    ]
    after, members = after.changed(looked_at), _members(reading)
    sides = {part: [_at(side, part, alone=True) for side in (reading, after)] for part in ("lists", "defaults")}
    for name, account in sorted(accounts.items()):
        mine = {
            group: {*members.get(group, ()), *([name] if group in texts(account.get("groups")) else [])}
            for group in members
        }
        for group in texts(account.get("groups")):
            mine.setdefault(group, {name})
        for part, (was, now) in sides.items():
            for place in sorted({*was, *now}):
                held, left = (_letters(_weighed(name, side.get(place, {}), mine)) for side in (was, now))
                if held == left:
                    continue
                entry: Entry = {"place": place, "to": f"user {name}", "rights": held, "part": part}
                key = f"{place} user {name} ({part})"
                said = f"{held} on {place}{' and all that is made in it' if part == 'defaults' else ''} to user {name}"
                there = reading.part("left_alone").get(key)
                yield Step("left_alone", key, there, entry, f"{said}, which is left alone and had that", keeps=True)


def _letters(rights: str) -> str:
    """`r-x` of whatever letters."""
    return rights_text(frozenset(rights) - {"-"})


def _by_place(steps: Sequence[Step]) -> Iterator[tuple[Step, ...]]:
    at: dict[str, list[Step]] = {}
    for step in steps:
        at.setdefault(str((step.after or step.before or {}).get("place")), []).append(step)
    yield from (tuple(some) for some in at.values())


def _between(before: Reading, after: Reading) -> Reading:
    """What gives everybody at each place what they have in both states."""
    members = _members(after) | _members(before)
    lists: Part = {}
    was, will = (_at(reading) for reading in (before, after))
    for place in dict.fromkeys((*was, *will)):
        both = {}
        for login in _people((was.get(place, {}), will.get(place, {})), members):
            if f"owner {login}" in was.get(place, {}) or login in before.part("accounts"):
                continue  # whoever is left alone has an entry of their own, an owner what the owner's entry says
            held = [frozenset(_weighed(login, side.get(place, {}), members)) - {"-"} for side in (was, will)]
            if held[0] & held[1]:
                both[login] = held[0] & held[1]
        for to, rights in _said(both, members).items():
            lists[f"{place} {to}"] = {"place": place, "to": to, "rights": rights_text(rights)}
    later: Part = {name: entry for name, entry in before.part("defaults").items() if name in after.part("defaults")}
    return Reading("", {"lists": lists, "defaults": later})


def _members(reading: Reading) -> dict[str, set[str]]:
    return {name: set(texts(entry.get("members"))) for name, entry in reading.part("groups").items()}


def _said(people: Mapping[str, Rights], members: Mapping[str, set[str]]) -> dict[str, Rights]:
    """Whom a list names so that everybody has just their rights: `group NAME` or `user NAME` -> rights."""
    named = in_names(people, members, set(people.values()))
    said = {f"group {name}": rights for name, rights in named.groups.items()}
    return said | {f"user {login}": rights for login, rights in named.people.items()}


def _people(sides: Sequence[Mapping[str, str]], members: Mapping[str, set[str]]) -> list[str]:
    """Everybody whom some lists are for."""
    found: set[str] = set()
    for to in (to for said in sides for to in said):
        kind, _, name = to.partition(" ")
        found |= members.get(name, set()) if kind == "group" else {name} if kind == "user" else set()
    return sorted(found)


def _at(reading: Reading, part: str = "lists", *, alone: bool = False) -> dict[str, dict[str, str]]:
    """Place -> whom -> rights, what masks cut off left out."""
    at: dict[str, dict[str, str]] = {}
    others = [e for e in reading.part("left_alone").values() if alone and e.get("part") == part]
    owners = reading.part("owners").values() if part == "lists" else ()
    for entry in (*owners, *reading.part(part).values(), *others):
        if entry.get("skipped"):
            continue
        key = f"owner {entry.get('owner')}" if "owner" in entry else str(entry.get("to"))
        at.setdefault(str(entry.get("place")), {})[key] = str(entry.get("effective", entry.get("rights")))
    return at


DIALECT = FoldersDialect()
