"""Lines among the bindings: a new one beside its likes, one taken out, one of several in a list taken out."""

from __future__ import annotations

from collections import Counter
from collections.abc import Collection, Iterable, Iterator, Mapping, Sequence
from typing import Any, NamedTuple

from msgspec import Struct

from justlane.engine.facts.index import PlatformIndex
from justlane.files.building.bindings import BUNDLE
from justlane.files.editing.draft import Draft, line_now
from justlane.files.in_place.document import Document
from justlane.files.in_place.scalars import Value, few
from justlane.model.bindings import Binding
from justlane.model.errors import RefusedError
from justlane.model.findings import Source

SECTION = "bindings"
_AXES = ("to", "at")
_HOLDING = (SECTION, "platform", "only")
"""Keys of which one stands in each file that may hold bindings."""


class NewLine(Struct, frozen=True):
    """What a line among the bindings says, in the words of the files."""

    roles: tuple[str, ...]
    """Roles, or bundles as `bundle NAME`."""
    to: tuple[str, ...]
    because: str
    at: tuple[str, ...] = ()
    """Addresses or patterns; none where all roles are bundles."""
    deny: bool = False
    here_only: bool = False
    when: Mapping[str, Value] = {}
    first_day: str = ""
    last_day: str = ""
    account: str = ""
    """Which of the user's accounts has it, if not their own."""

    @property
    def value(self) -> dict[str, Value]:
        """The keys of the line, in their order."""
        said: dict[str, Value] = {"deny" if self.deny else "give": few(self.roles), "to": few(self.to)}
        if self.at:
            said["at"] = few(self.at)
        if self.here_only:
            said["here only"] = "yes"
        if self.when:
            said["when"] = self.when
        if self.first_day:
            said["from"] = self.first_day
        if self.last_day:
            said["until"] = self.last_day
        if self.account:
            said["as account"] = self.account
        return {**said, "because": self.because}


class Spot(NamedTuple):
    """Where a new line is to stand: beside another one."""

    beside: Source | None
    """None for the end of the list."""
    after: bool = True


def give(
    draft: Draft,
    line: NewLine,
    platforms: Sequence[PlatformIndex],
    spot: Spot | None,
    file: str = "",
    but_not: Collection[str] = (),
) -> Source:
    """Put a new line into the files, or into one of them; where it stands now. `platforms` are what it is about,
    `but_not` files in which it is not to stand unless one of them is named."""
    named, spot = spot is not None, spot or _beside_likes(line, platforms, file, but_not)
    if spot is None or spot.beside is None:
        file = file or file_for(platforms)
        document = draft.document(file)
        if not document.has((SECTION,)):
            document.put((SECTION,), [line.value])
            return Source(file, document.line((SECTION, 0)))
        place = len(document.node((SECTION,)).items)
    else:
        file = spot.beside.file
        document = draft.window(file, SECTION, _starts(platforms, file), spot.beside.line)
        try:
            place = place_of(document, spot.beside) + spot.after
        except RefusedError:
            if named:
                raise
            place = len(document.node((SECTION,)).items)  # its likes were taken out by the same edit
    document.insert((SECTION,), place, line.value)
    return Source(file, document.line((SECTION, place)))


def _starts(platforms: Sequence[PlatformIndex], file: str) -> list[int]:
    """The lines of a file at which bindings of some platforms start."""
    return sorted({b.source.line for prepared in platforms for b in prepared.bindings if b.source.file == file})


def may_hold(draft: Draft, file: str) -> bool:
    """Whether a file is of a kind in which bindings stand."""
    document = draft.document(file)
    return any(document.has((kind,)) for kind in _HOLDING)


def file_for(platforms: Sequence[PlatformIndex]) -> str:
    """The file for a line that stands beside no other: that of the last binding, otherwise the platform's own."""
    for prepared in platforms:
        bound = [b for b in prepared.bindings if not b.built_in]
        if bound:
            return bound[-1].source.file
    return platforms[0].platform.source.file


def _beside_likes(
    line: NewLine, platforms: Sequence[PlatformIndex], file: str, but_not: Collection[str]
) -> Spot | None:
    """The last of the lines that are most like a new one: at the nearest place, then the same role to the same group,
    the same role, the same group. What several platforms are about stands in no file of one of them, if it can."""
    best: tuple[tuple[int, int, int], Binding] | None = None
    names, to = set(line.roles), set(line.to)
    own = {prepared.platform.source.file for prepared in platforms} if len(platforms) > 1 else set[str]()
    known = [
        b
        for prepared in platforms
        for b in prepared.bindings
        if not b.built_in and (b.source.file == file if file else b.source.file not in but_not)
    ]
    shared = [binding for binding in known if binding.source.file not in own]
    for number, binding in enumerate(shared or known):
        same_role, same_group = _spoken(binding) in names, str(binding.principal) in to
        likeness = 4 * same_role + 2 * same_group + (binding.allows != line.deny)
        near = max((_nearness(binding.pattern or binding.scope, at) for at in line.at), default=0)
        if best is None or (near, likeness, number) > best[0]:
            best = (near, likeness, number), binding
    return Spot(best[1].source) if best else None


def _nearness(one: str, other: str) -> int:
    """How many steps two addresses share from the platform on; one more where they are the same."""
    steps, others = one.split("/"), other.split("/")
    shared = next((n for n, pair in enumerate(zip(steps, others, strict=False)) if pair[0] != pair[1]), None)
    return min(len(steps), len(others)) + (one == other) if shared is None else shared


def _spoken(binding: Binding) -> str:
    return BUNDLE + binding.bundle if binding.bundle else binding.role


def place_of(document: Document, source: Source, section: str = SECTION) -> int:
    """Which item of a list stands at a line. RefusedError if none does any more."""
    place = places_of(document, section).get(line_now(document, source.line))
    if place is None:
        raise not_there(source, section)
    return place


def places_of(document: Document, section: str = SECTION) -> dict[int, int]:
    """Line -> which item of a list stands there."""
    count = len(document.node((section,)).items) if document.has((section,)) else 0
    return {document.line((section, place)): place for place in range(count)}


def not_there(source: Source, section: str = SECTION) -> RefusedError:
    """The error for a line at which no item of a list stands."""
    return RefusedError(f"{source.line_address}: this line is not among the {section} any more", "try again")


class Taking(NamedTuple):
    """What is to be taken out of the bindings."""

    roles: frozenset[str]
    """Roles, or bundles as `bundle NAME`; none for all."""
    to: frozenset[str]
    at: frozenset[str] | None
    """None for everywhere."""
    written: frozenset[str] | None = None
    """Instead of places, what is written: addresses and patterns."""


def withdraw(
    draft: Draft, taking: Taking, bindings: Iterable[Binding], platforms: Sequence[PlatformIndex]
) -> list[Source]:
    """Take what some bindings give, or deny, out of their lines; the lines that it was taken out of. `platforms` are
    all of the estate's."""
    lines: dict[Source, list[Binding]] = {}
    for binding in bindings:
        lines.setdefault(binding.source, []).append(binding)
    several = Counter(source.file for source in lines)
    for source, some in sorted(lines.items(), reverse=True):
        if several[source.file] == 1:
            draft.window(source.file, SECTION, _starts(platforms, source.file), source.line)
        _take_out(draft.document(source.file), source, taking, some)
    return sorted(lines)


def take_parts(
    draft: Draft,
    source: Source,
    parts: Sequence[Taking],
    bindings: Sequence[Binding],
    platforms: Sequence[PlatformIndex],
) -> None:
    """Take several parts out of one line, one after the other: where it had to be split, from what came of it."""
    document = draft.window(source.file, SECTION, _starts(platforms, source.file), source.line)
    first, count = place_of(document, source), 1
    for taking in parts:
        for place in range(first, first + count):
            if _says(document, place, taking):
                before = _length(document)
                _take_out_at(document, place, source, taking, bindings)
                count += _length(document) - before
                break


def _length(document: Document) -> int:
    return len(document.node((SECTION,)).items) if document.has((SECTION,)) else 0


def _says(document: Document, place: int, taking: Taking) -> bool:
    """Whether an entry says all that is to be taken out."""
    where = (SECTION, place)
    effect = "give" if document.has((*where, "give")) else "deny"
    roles = {_word(role) for role in document.values((*where, effect))}
    to = {_word(name) for name in document.values((*where, "to"))}
    at = set(document.values((*where, "at"))) if document.has((*where, "at")) else set[str]()
    return taking.roles <= roles and taking.to <= to and (taking.written or frozenset()) <= at


def _take_out(document: Document, source: Source, taking: Taking, bindings: Sequence[Binding]) -> None:
    _take_out_at(document, place_of(document, source), source, taking, bindings)


def _take_out_at(document: Document, place: int, source: Source, taking: Taking, bindings: Sequence[Binding]) -> None:
    where = (SECTION, place)
    effect = "give" if document.has((*where, "give")) else "deny"
    said = {axis: document.values((*where, axis)) for axis in (effect, *_AXES)}
    gone = {
        effect: [role for role in said[effect] if not taking.roles or _word(role) in taking.roles],
        "to": [to for to in said["to"] if _word(to) in taking.to],
        "at": _places(source, said["at"], taking, bindings),
    }
    parts = [axis for axis in said if len(gone[axis]) < len(said[axis])]
    if not parts:
        document.remove(where)
        return
    whole: Any = document.node(where).plain
    for number, axis in enumerate(parts[1:], 1):  # what only a further line can say
        split = {**whole, axis: few([word for word in said[axis] if word not in gone[axis]])}
        split |= {before: few(gone[before]) for before in parts[:number]}
        document.insert((SECTION,), place + 1, split)
    for word in gone[parts[0]]:
        document.take((*where, parts[0]), word)


def _word(text: str) -> str:
    """`group  crew` as `group crew`."""
    return " ".join(text.split()) if text.startswith(("group ", "user ", "local ", BUNDLE)) else text


def _places(source: Source, written: Sequence[str], taking: Taking, bindings: Sequence[Binding]) -> list[str]:
    """Which of the addresses that a line names are to go. RefusedError for a part of what a pattern stands for."""
    if taking.written is not None:
        return [at for at in written if at in taking.written]
    if taking.at is None:
        return list(written)
    meant: dict[str, set[str]] = {}
    for binding in bindings:
        meant.setdefault(binding.pattern or binding.scope, set()).add(binding.scope)
    gone = []
    for at in written:
        stands_for = meant.get(at, {at})
        if at in taking.at or stands_for <= taking.at:
            gone.append(at)
        elif stands_for & taking.at:
            message = f"{source.line_address}: {at!r} stands for {len(stands_for)} places, and not all are meant"
            raise RefusedError(message, "name the pattern itself, or write the places out; nothing was changed")
    return gone


def given_by(
    prepared: PlatformIndex, roles: frozenset[str], to: frozenset[str], at: frozenset[str] | None
) -> Iterator[Binding]:
    """The bindings of a platform that the files give, or deny, to some principals at some places."""
    for binding in prepared.bindings:
        if str(binding.principal) not in to or (roles and _spoken(binding) not in roles):
            continue
        if at is None or binding.bundle or binding.scope in at or binding.pattern in at:
            yield binding
