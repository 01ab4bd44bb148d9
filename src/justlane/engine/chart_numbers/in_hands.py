"""In how many hands each sensitive action is."""

from __future__ import annotations

from msgspec import Struct

from justlane.engine.decision.judge import Question
from justlane.engine.facts.index import EstateIndex


class InHands(Struct, frozen=True):
    """One sensitive action of a platform."""

    action: str
    people: int
    """How many hold it somewhere, in some circumstances; whoever has not signed in is one."""
    cells: int
    """(user, scope) pairs."""


def in_hands(index: EstateIndex, platform: str, question: Question) -> list[InHands]:
    """All sensitive actions of a platform, in their order, by the compiled form."""
    from justlane.engine.compiled.count import Compiled
    from justlane.engine.compiled.flat_platform import flatten

    actions = index.platform(platform).platform.actions
    sensitive = [(number, name) for number, (name, action) in enumerate(actions.items()) if action.sensitive]
    if not sensitive:
        return []
    held = Compiled(flatten(index, platform, question)).holding([number for number, _ in sensitive])
    return [InHands(name, h.people, h.cells) for (_, name), h in zip(sensitive, held, strict=True)]
