"""In which order changes are made, so that nobody ever has more than before and after, or is locked out between.

Where what any binding allows is allowed, or a deny beats every allow, an order of single steps is enough: first what
takes away, then what gives; then what gave, last what took away. Whoever keeps something keeps it throughout, since the
new giver comes before the old one goes; whoever is denied something stays denied, since the new deny comes before the
old one goes. A change that gives and takes at once is made in two: by way of what holds both.

Changes that meet go together: while a role is wider already and a line that gives it is not yet gone, whoever it gives
it to would have what they have neither before nor after. What names each other, directly or by way of others, is made
at once then.

Elsewhere (the order or the nearest place decides, a binding closes what was open, one role at a time, publication) one
binding can turn the meaning of others, so all that counts changes in one stroke.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence

from msgspec.structs import replace

from justlane.model.estate import Decides, Habits, RolesHeld
from justlane.platforms.interface import Dialect, Entry, Reading, Step

_MANY, _AT_ONCE = 1000, 500
"""From so many new entries that nothing names yet on, so many are sent at once."""


def in_order(dialect: Dialect, habits: Habits, reading: Reading, steps: Sequence[Step]) -> tuple[tuple[Step, ...], ...]:
    """The strokes that carry out some steps; the steps come in the order in which nothing names what is not there."""
    # an account that is opened before what it must not have is gone would have it for a moment
    takes = any(step.verb != "add" for step in steps)
    sorts = {part: dialect.sort(part) for part in dialect.parts}
    first = [s for s in steps if s.verb == "add" and sorts[s.part].neutral and not (takes and sorts[s.part].accounts)]
    met = set(map(id, first))
    rest = [s for s in steps if id(s) not in met]
    # nothing names them yet, so that nobody has anything by them: many may go together
    size = _AT_ONCE if len(first) > _MANY else 1
    strokes = [tuple(first[n : n + size]) for n in range(0, len(first), size)]
    if not _is_plain(dialect, habits, reading, rest):
        return (*strokes, tuple(rest)) if rest else tuple(strokes)
    meeting = _meeting(dialect, reading, rest)
    apart = set(map(id, meeting))
    return (*strokes, *_one_by_one(dialect, [s for s in rest if id(s) not in apart], meeting))


def weighs_plainly(habits: Habits) -> bool:
    """Whether no binding turns the meaning of another, but for a deny."""
    together = habits.roles_held is RolesHeld.TOGETHER and not habits.publication and not habits.open_role
    return together and habits.decides in (Decides.ANY_ALLOW, Decides.DENY_WINS)


def _is_plain(dialect: Dialect, habits: Habits, reading: Reading, steps: Sequence[Step]) -> bool:
    """Whether single steps in order are enough. Where something is taken away from a group, its members do not change
    one by one."""
    if not weighs_plainly(habits):
        return False
    if all(step.verb != "change" for step in steps):
        return True
    held = ((part, entry) for part, entries in reading.parts.items() for entry in entries.values())
    added = ((step.part, step.after) for step in steps if step.after is not None)
    return not any(dialect.restricts(part, entry) for part, entry in (*held, *added))


def _one_by_one(dialect: Dialect, steps: Sequence[Step], meeting: tuple[Step, ...]) -> Iterator[tuple[Step, ...]]:
    """Accounts that are shut and what takes away; what gives; what gave and is gone; what took away and is gone; last
    whatever nothing names any more, and accounts that are opened.

    `meeting` is made at once, when all is given that somebody may keep by, and before what they may keep it by goes.
    """
    people, others = ([s for s in steps if dialect.sort(s.part).accounts is mine] for mine in (True, False))
    shut = [s for s in people if s.verb == "change" and not (s.after or {}).get("enabled")]
    giving = [s.after for s in others if s.after is not None and not dialect.sort(s.part).neutral]
    named = {str(value) for entry in giving for value in entry.values()}
    needed = [s for s in people if s.verb == "add" and f"user {s.name}" in named]
    added = [s for s in others if s.verb == "add"]
    removed = [s for s in others if s.verb == "remove"]
    halves = [half for s in others if s.verb == "change" for half in _halves(dialect, s)]
    plain = [s for s in removed if not dialect.sort(s.part).neutral]
    first, last = [*shut, *needed], [s for s in people if s.verb != "remove" and s not in shut and s not in needed]
    gives = [
        # new denies before anything that gives: whoever is to be denied never has it in between
        *(s for s in added if dialect.restricts(s.part, s.after or {})),
        *(s for s, widens in halves if widens),
        *(s for s in added if not dialect.restricts(s.part, s.after or {})),
    ]
    takes = [
        *(s for s, widens in reversed(halves) if not widens),
        # what gives goes before the denies over it: the other way round somebody would be given what was
        # denied
        *(s for s in plain if not dialect.restricts(s.part, s.before or {})),
        *(s for s in plain if dialect.restricts(s.part, s.before or {})),
        *(s for s in removed if dialect.sort(s.part).neutral),
        *(s for s in people if s.verb == "remove"),
    ]
    yield from ((step,) for step in (*first, *gives))
    if meeting:
        yield meeting
    yield from ((step,) for step in (*takes, *last))


def _meeting(dialect: Dialect, reading: Reading, steps: Sequence[Step]) -> tuple[Step, ...]:
    """Steps that cannot be made one after the other, with all that they meet, in the order in which they came."""
    counted = [step for step in steps if not dialect.sort(step.part).accounts]
    if len(counted) < 2 or all(step.verb != "change" for step in counted):
        return ()
    chains = _Chains(dialect, reading, counted)
    met: dict[str, list[Step]] = {}
    for step in counted:
        met.setdefault(chains.of(step), []).append(step)
    joint = {id(step) for some in met.values() if _are_joint(dialect, some) for step in some}
    return tuple(step for step in counted if id(step) in joint)


def _are_joint(dialect: Dialect, steps: Sequence[Step]) -> bool:
    """Whether on the way through some steps somebody could have what they have neither before nor after.

    While all only widens, what is there on the way is there afterwards; while all only narrows, it was there before. A
    line that goes must not meet what widens, nor a new one what is yet to narrow.
    """
    changed = [s for s in steps if s.verb == "change" and dialect.sort(s.part).neutral]
    if not changed:
        return False
    lines = [s for s in steps if not dialect.sort(s.part).neutral]
    comes, goes = any(s.verb != "remove" for s in lines), any(s.verb != "add" for s in lines)
    ways = [dialect.between(s.part, s.before or {}, s.after or {}) for s in changed]
    widens = any(both is None or both != s.before for s, both in zip(changed, ways, strict=True))
    narrows = any(both is None or both != s.after for s, both in zip(changed, ways, strict=True))
    alone = len(changed) == 1 and not lines
    return (widens and goes) or (narrows and comes) or (widens and narrows and not alone)


class _Chains:
    """What names each other on a platform before or after some steps, directly or by way of others."""

    def __init__(self, dialect: Dialect, reading: Reading, steps: Sequence[Step]) -> None:
        self._dialect = dialect
        held = [(p, name, e) for p, entries in reading.parts.items() for name, e in entries.items()]
        some = [*held, *((s.part, s.name, s.after) for s in steps if s.after is not None)]
        known = [one for one in some if not dialect.sort(one[0]).accounts]
        self._root = {name: name for part, name, _ in known if dialect.sort(part).neutral}
        for part, name, entry in known:
            first, *others = [*self._own(part, name), *self._named(entry)] or [""]
            for other in others:
                self._root[self._find(other)] = self._find(first)

    def of(self, step: Step) -> str:
        """What stands for the chain that a step belongs to; its own name if it meets nothing."""
        entry = step.after if step.after is not None else step.before or {}
        first = next(iter([*self._own(step.part, step.name), *self._named(entry)]), "")
        return self._find(first) if first else f"{step.part} {step.name}"

    def _own(self, part: str, name: str) -> list[str]:
        return [name] if self._dialect.sort(part).neutral else []

    def _named(self, entry: Entry) -> Iterator[str]:
        for value in entry.values():
            for text in value if isinstance(value, list) else (value,):
                if isinstance(text, str) and not text.startswith("user "):
                    name = text.removeprefix("local ").removeprefix("group ")
                    if name in self._root:
                        yield name

    def _find(self, name: str) -> str:
        while self._root[name] != name:
            self._root[name] = name = self._root[self._root[name]]
        return name


def _halves(dialect: Dialect, step: Step) -> Iterator[tuple[Step, bool]]:
    """A change as what gives, and what takes (False), by way of what gives both."""
    assert step.before is not None
    assert step.after is not None
    both = dialect.between(step.part, step.before, step.after)
    if both is None or both in (step.before, step.after):
        yield step, both != step.before
        return
    yield replace(step, after=both), True
    yield replace(step, before=both), False
