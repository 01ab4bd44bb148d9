"""Which bindings have a say at a place, and so which names tell people apart there."""

from __future__ import annotations

from collections.abc import Iterator

from justlane.engine.decision.judge import Question, asked_at, gates_to, is_apart
from justlane.engine.facts.index import PlatformIndex
from justlane.model.bindings import Binding
from justlane.model.estate import Decides
from justlane.model.people import Principal


def weighed_at(prepared: PlatformIndex, address: str) -> Iterator[tuple[str, Binding]]:
    """The bindings that cover a place, or a scope where something must be held to act there: (that scope, binding)."""
    for place in asked_at(prepared, address):
        yield from ((place, binding) for binding in prepared.covering_bindings(place))


def names_that_matter(
    prepared: PlatformIndex, address: str, question: Question, action: str | None = None
) -> frozenset[Principal]:
    """What tells people apart at a place, for all actions or for one: their bindings there and on the way to it, and
    the ceilings. Where what they act as elsewhere matters too, that is everything."""
    if is_apart(prepared, question):
        return prepared.named
    if action is None or prepared.platform.habits.decides is Decides.NEAREST:  # there a binding to anything decides
        bound = [binding.principal for _, binding in weighed_at(prepared, address)]
    else:
        asked = [(address, action), *((gate.scope, gate.action) for gate in gates_to(prepared, address))]
        bound = [
            binding.principal
            for place, what in dict.fromkeys(asked)
            for binding in prepared.covering_bindings(place)
            if what in prepared.roles.holdings(binding.role)
        ]
    return frozenset((*bound, *prepared.platform.capped))
