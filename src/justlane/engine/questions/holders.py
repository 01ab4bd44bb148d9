"""Everyone who may do one action at one scope, and through what."""

from __future__ import annotations

from msgspec import Struct

from justlane.engine.decision.circumstances_in_words import Box
from justlane.engine.decision.explanation import Chain, all_chains, in_words
from justlane.engine.decision.judge import Judge, Question
from justlane.engine.facts.index import EstateIndex
from justlane.engine.facts.people import ANONYMOUS_NAME
from justlane.engine.questions.who_may import who_may


class Holder(Struct, frozen=True):
    """One person, and every way in which they come by the action, the shortest first."""

    user: str
    chains: tuple[Chain, ...]
    conditions: tuple[Box, ...] = ()
    """In which circumstances; empty for all."""


class Holders(Struct, frozen=True):
    """Who may do this action here?"""

    action: str
    scope: str
    applicable: bool
    """Whether the action can be done at that kind of scope at all."""
    holders: tuple[Holder, ...]


def holders(index: EstateIndex, action: str, address: str, question: Question) -> Holders:
    """Everyone who may in some circumstances, in the order of their logins; last whoever has not signed in."""
    prepared, zone = index.platform(address), index.estate.time_zone
    found: list[Holder] = []
    for alike, first in who_may(index, action, address, question):
        conditions = in_words(first, first.allowed(action, address))
        for somebody in alike:
            judging = Judge(prepared, somebody, question, zone, first.space)
            found.append(Holder(somebody.login, all_chains(index, judging, action, address), conditions))
    found.sort(key=lambda holder: (holder.user == ANONYMOUS_NAME, holder.user))
    return Holders(action, address, prepared.applies(action, address), tuple(found))
