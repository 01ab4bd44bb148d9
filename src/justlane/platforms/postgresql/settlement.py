"""Which steps a cluster lets be made, in which order, and what is done so that nobody loses what no plan takes. Pure.

Three things of the server matter here: a role that owns something, or stands in default privileges, cannot be dropped;
what somebody granted on goes only after what they granted it by (REVOKE without CASCADE, by whoever granted it); and
what PUBLIC or a group gives also reaches accounts that are left alone.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping, Sequence

from msgspec.structs import replace

from justlane.platforms.entries import texts
from justlane.platforms.interface import Entry, Reading, Step
from justlane.platforms.postgresql.catalogue import name_of

GRANTS = ("grants", "columns", "left_alone")
"""Parts that hold grants; the last holds memberships too."""
_OFF: Entry = {"enabled": False}
_Right = tuple[str, str, str]
"""(privilege, place, column)."""


def bare(named: object) -> str:
    """The role that a reading names; `public` for PUBLIC."""
    text = str(named)
    return text.partition(" ")[2] or text


def settle_steps(reading: Reading, steps: Sequence[Step], *, back: bool) -> list[Step]:
    """The steps as they can be made: roles that have to stay stay; what is left alone keeps what it can do."""
    found = [_of_role(reading, step, back=back) for step in steps]
    return found if back else [*_kept(reading, found), *found]


def _of_role(reading: Reading, step: Step, *, back: bool) -> Step:
    """A role that would be made is there already, or one that would go cannot."""
    known, there = reading.part("roles").get(step.name, {}), reading.part("groups").get(step.name)
    if step.part not in ("people", "groups"):
        return step
    if step.part == "people" and step.before is None and there is not None:
        before = {**_OFF, **{key: value for key, value in there.items() if key == "inherits"}}
        return replace(step, before=before, changes=("may sign in",))
    if step.after is not None:
        return step
    ties = texts(known.get("ties"))
    if step.part == "people":
        return step if back and not ties else replace(step, after=_OFF, changes=("may no longer sign in",))
    for entry in reading.part("left_alone").values():
        if "of" in entry and step.name in (entry["of"], bare(entry["member"])):
            inside, member = entry["of"] == step.name, bare(entry["member"])
            ties.append(
                f"holds {member}, which is left alone" if inside else f"is in {entry['of']}, which is left alone"
            )
    if not ties:
        return step
    free = f"REASSIGN OWNED BY {sql_name(step.name)} TO CURRENT_USER; " if any("owns" in t for t in ties) else ""
    free += f"DROP OWNED BY {sql_name(step.name)}; DROP ROLE {sql_name(step.name)}"
    says = f"{step.what}: it stays as a role without anybody, since it {', '.join(ties)}; to be rid of it: {free}"
    return replace(step, what=says, by_hand=True)


def sql_name(name: str) -> str:
    """A name as SQL writes it; only for what is shown."""
    return '"' + name.replace('"', '""') + '"'


class _Rights:
    """What roles hold in one state of a cluster."""

    def __init__(self, reading: Reading) -> None:
        self._in: dict[str, list[str]] = {}
        self._given: dict[str, dict[_Right, bool]] = {}
        for part in ("memberships", "left_alone"):
            for entry in reading.part(part).values():
                if "of" in entry:
                    self._in.setdefault(bare(entry["member"]), []).append(str(entry["of"]))
        for entry in grants_of(reading):
            right = right_of(entry)
            held = self._given.setdefault(bare(entry["to"]), {})
            held[right] = held.get(right, False) or entry.get("grantable") is True

    def roles(self, name: str) -> set[str]:
        """A role and all in which it is, through others too."""
        found, waiting = {name}, [name]
        while waiting:
            for outer in self._in.get(waiting.pop(), ()):
                if outer not in found:
                    found.add(outer)
                    waiting.append(outer)
        return found

    def of(self, name: str) -> dict[_Right, bool]:
        """Everything that a role may do, by itself, by what it is in and by PUBLIC; whether it may hand it on."""
        return self._by([*self.roles(name), "public"])

    def named(self, name: str) -> dict[_Right, bool]:
        """The same without PUBLIC."""
        return self._by(self.roles(name))

    def _by(self, roles: Iterable[str]) -> dict[_Right, bool]:
        found: dict[_Right, bool] = {}
        for role in roles:
            for right, grantable in self._given.get(role, {}).items():
                found[right] = found.get(right, False) or grantable
        return found


def grants_of(reading: Reading) -> Iterator[Entry]:
    """Every grant that a reading has, to whomever."""
    for part in GRANTS:
        yield from (entry for entry in reading.part(part).values() if "privilege" in entry)


def right_of(entry: Entry) -> _Right:
    """What a grant is of."""
    return str(entry["privilege"]), str(entry["place"]), str(entry.get("column", ""))


def _kept(reading: Reading, steps: Sequence[Step]) -> Iterator[Step]:
    """What is done so that accounts that are left alone can do what they could before, no less and no more."""
    alone = alone_in(reading)
    if not alone:
        return
    made = {(s.part, s.name): s.after for s in steps if not s.by_hand}
    for name, entry in reading.part("left_alone").items():
        if entry.get("by") and "privilege" in entry and _unfounded(reading, made, entry):
            made["left_alone", name] = None
            yield Step("left_alone", name, entry, None, in_words(entry), keeps=True)
    before = _Rights(reading)
    for name in alone:
        for step in _taken_out(reading, made, before, name):
            made[step.part, step.name] = None
            yield step
        yield from _given_directly(reading, before, _Rights(_after(reading, made)), name)


def alone_in(reading: Reading) -> list[str]:
    """The accounts and groups that are left alone, but for superusers, who lose and gain nothing."""
    return sorted(name for name, role in reading.part("roles").items() if role.get("alone") and not role.get("all"))


def _after(reading: Reading, made: Mapping[tuple[str, str], Entry | None]) -> Reading:
    return reading.changed((part, name, entry) for (part, name), entry in made.items())


def _owning(reading: Reading) -> set[str]:
    """The roles that own something: what that brings cannot be given otherwise."""
    return {bare(entry.get("owner")) for entry in reading.part("places").values()}


def _taken_out(
    reading: Reading, made: Mapping[tuple[str, str], Entry | None], before: _Rights, name: str
) -> Iterator[Step]:
    """Groups that an account is taken out of, since it would gain by what they are given."""
    after = _Rights(_after(reading, made))
    gained = after.named(name).keys() - before.of(name).keys()
    for key, entry in reading.part("left_alone").items() if gained else ():
        of = str(entry.get("of"))
        if "of" not in entry or bare(entry["member"]) != name or before.roles(of) & _owning(reading):
            continue
        if gained & after.named(of).keys():
            says = f"{name}, which is left alone, in {of}: else it would gain what {of} is given"
            yield Step("left_alone", key, entry, None, says, keeps=True)


def _given_directly(reading: Reading, before: _Rights, after: _Rights, name: str) -> Iterator[Step]:
    """What an account would lose, given to itself: memberships in what owns something, and grants."""
    lost = (before.roles(name) - after.roles(name)) & _owning(reading)
    for of in sorted(lost):
        entry: Entry = {"of": of, "member": f"user {name}", "inherits": True, "admin": False}
        yield Step("left_alone", f"{name} in {of}", None, entry, f"{name}, which is left alone, in {of}", keeps=True)
    has = after.of(name)
    for role in lost:
        has |= after.of(role)
    owned = {a: e for a, e in reading.part("places").items() if bare(e.get("owner")) in before.roles(name)}
    for (privilege, place, column), grantable in sorted(before.of(name).items()):
        if place in owned or has.get((privilege, place, column), -1) >= grantable:
            continue
        kind = reading.part("places")[place]["kind"]
        entry = {"to": f"user {name}", "privilege": privilege, "kind": kind, "place": place, "grantable": grantable}
        entry |= {"column": column} if column else {}
        held = reading.part("left_alone").get(name_of(entry))
        said = f"{in_words(entry)}, which is left alone and had it through others"
        yield Step("left_alone", name_of(entry), held, entry, said, keeps=True)


def gained_anyway(reading: Reading, steps: Sequence[Step]) -> list[str]:
    """What accounts that are left alone gain although they should not: by PUBLIC, or by what owns something."""
    alone = alone_in(reading)
    if not alone:
        return []
    before = _Rights(reading)
    after = _Rights(reading.after(s for s in steps if not s.by_hand))
    said: list[str] = []
    for name in alone:
        gained = sorted(after.of(name).keys() - before.of(name).keys())
        rights = [f"{privilege} on {place}{f' ({column})' if column else ''}" for privilege, place, column in gained]
        if rights:
            said.append(
                f"{name}, which is left alone, gains by what its groups or PUBLIC are given: {', '.join(rights)}"
            )
    return said


def _unfounded(reading: Reading, made: Mapping[tuple[str, str], Entry | None], entry: Entry) -> bool:
    """Whether whoever granted something on may not do so after the steps."""
    by = entry.get("by")
    for part in GRANTS:
        for name, held in reading.part(part).items():
            if "privilege" not in held or bare(held["to"]) != by or right_of(held) != right_of(entry):
                continue
            if (now := made.get((part, name), held)) is not None and now.get("grantable") is True:
                return False
    return True


def in_words(entry: Entry) -> str:
    """A grant as the server's own statements say it."""
    what = f"{entry.get('privilege')}"
    what += f" of the column {entry['column']}" if entry.get("column") else ""
    more = " with grant option" if entry.get("grantable") else ""
    more += f", handed on by {entry['by']}" if entry.get("by") else ""
    return f"{what} on {entry.get('kind')} {entry.get('place')} to {entry.get('to')}{more}"


def with_columns(step: Step, wanted: Reading) -> Iterator[Step]:
    """A step, and behind one that takes a privilege on a whole table what that takes on single columns and nobody wants
    taken (the server takes both at once), given again."""
    yield step
    entry = step.after or step.before or {}
    takes = step.after is None or not step.after.get("grantable")
    if "privilege" not in entry or entry.get("column") or step.before is None or not takes:
        return
    for part in ("columns", "left_alone"):
        for name, held in wanted.part(part).items():
            same = held.get("column") and (held["privilege"], held["place"]) == (entry["privilege"], entry["place"])
            if same and bare(held["to"]) == bare(entry["to"]) and held.get("by") == entry.get("by"):
                yield Step(part, name, None, held, in_words(held))


def takes(step: Step) -> bool:
    """Whether a change takes something: all, or the right to hand it on."""
    was, now = ((entry or {}).get("grantable") is True for entry in (step.before, step.after))
    return step.after is None or (was and not now)


def in_order(reading: Reading, steps: Iterable[Step]) -> list[Step]:
    """What is given before what is taken; what is granted on behind what it is granted by, and taken before it."""
    some = list(steps)
    granters: dict[tuple[_Right, str], str] = {}
    everything = [e for s in some for e in (s.before, s.after) if e and "privilege" in e]
    for entry in (*grants_of(reading), *everything):
        if entry.get("by"):
            granters[right_of(entry), bare(entry["to"])] = str(entry["by"])

    def depth(entry: Entry) -> int:
        right, by, count = right_of(entry), str(entry.get("by") or ""), 0
        met: set[str] = set()
        while by and by not in met:
            met.add(by)
            by, count = granters.get((right, by), ""), count + 1
        return count

    def key(step: Step) -> tuple[int, int]:
        entry = step.after or step.before or {}
        is_grant = "privilege" in entry
        if step.part in ("people", "groups"):
            return (9 if step.after is None else 8 if step.after.get("enabled") is False else 0), 0
        if not is_grant:
            return (7 if step.after is None else 1), 0
        return (5, -depth(entry)) if takes(step) else (2, depth(entry))

    return sorted(some, key=key)
