"""In which order changes are made, so that nobody ever has more than before and after, or is locked out between.

Where what any binding allows is allowed, or a deny beats every allow, an order of single steps is enough: first what
takes away, then what gives; then what gave, last what took away. Whoever keeps something keeps it throughout, since the
new giver comes before the old one goes; whoever is denied something stays denied, since the new deny comes before the
old one goes. A change that gives and takes at once is made in two: by way of what holds both.

Elsewhere (the order or the nearest place decides, a binding closes what was open, one role at a time, publication) one
binding can turn the meaning of others, so all that counts changes in one stroke.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence

from msgspec.structs import replace

from justlane.model.estate import Decides, Habits, RolesHeld
from justlane.platforms.interface import Dialect, Reading, Step

_MANY, _AT_ONCE = 1000, 500
"""From so many new entries that nothing names yet on, so many are sent at once."""


def in_order(dialect: Dialect, habits: Habits, reading: Reading, steps: Sequence[Step]) -> tuple[tuple[Step, ...], ...]:
    """The strokes that carry out some steps; the steps come in the order in which nothing names what is not there."""
    takes = any(step.verb != "add" for step in steps)
    sorts = {part: dialect.sort(part) for part in dialect.parts}
    first = [s for s in steps if s.verb == "add" and sorts[s.part].neutral and not (takes and sorts[s.part].accounts)]
    met = set(map(id, first))
    rest = [s for s in steps if id(s) not in met]
    size = _AT_ONCE if len(first) > _MANY else 1
    strokes = [tuple(first[n : n + size]) for n in range(0, len(first), size)]
    if not _is_plain(dialect, habits, reading, rest):
        return (*strokes, tuple(rest)) if rest else tuple(strokes)
    return (*strokes, *((step,) for step in _one_by_one(dialect, rest)))


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


def _one_by_one(dialect: Dialect, steps: Sequence[Step]) -> Iterator[Step]:
    """Accounts that are shut and what takes away; what gives; what gave and is gone; what took away and is gone; last
    whatever nothing names any more, and accounts that are opened."""
    people, others = ([s for s in steps if dialect.sort(s.part).accounts is mine] for mine in (True, False))
    shut = [s for s in people if s.verb == "change" and not (s.after or {}).get("enabled")]
    giving = [s.after for s in others if s.after is not None and not dialect.sort(s.part).neutral]
    named = {str(value) for entry in giving for value in entry.values()}
    needed = [s for s in people if s.verb == "add" and f"user {s.name}" in named]
    added = [s for s in others if s.verb == "add"]
    removed = [s for s in others if s.verb == "remove"]
    halves = [half for s in others if s.verb == "change" for half in _halves(dialect, s)]
    plain = [s for s in removed if not dialect.sort(s.part).neutral]
    yield from (*shut, *needed)
    yield from (s for s in added if dialect.restricts(s.part, s.after or {}))
    yield from (s for s, gives in halves if gives)
    yield from (s for s in added if not dialect.restricts(s.part, s.after or {}))
    yield from (s for s, gives in reversed(halves) if not gives)
    yield from (s for s in plain if not dialect.restricts(s.part, s.before or {}))
    yield from (s for s in plain if dialect.restricts(s.part, s.before or {}))
    yield from (s for s in removed if dialect.sort(s.part).neutral)
    yield from (s for s in people if s.verb == "remove")
    yield from (s for s in people if s.verb != "remove" and s not in shut and s not in needed)


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
