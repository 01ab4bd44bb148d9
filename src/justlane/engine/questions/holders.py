"""Everyone who may do one action at one scope, and through what."""

from __future__ import annotations

from msgspec import Struct

from justlane.engine.decision.circumstances_in_words import Box
from justlane.engine.decision.deciding import Question, judge
from justlane.engine.decision.explaining import Chain, all_chains, in_words
from justlane.engine.facts.index import EstateIndex
from justlane.engine.facts.people import ANONYMOUS_NAME


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
    found: list[Holder] = []
    for login in (*sorted(index.estate.directory.users), ANONYMOUS_NAME):
        judging = judge(index, login, address, question)
        some = judging.allowed(action, address)
        if some:
            found.append(Holder(login, all_chains(index, judging, action, address), in_words(judging, some)))
    return Holders(action, address, index.platform(address).applies(action, address), tuple(found))
