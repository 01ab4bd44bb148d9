"""Whom a probe signs in as and where it asks: one of each kind and some others, or everybody everywhere."""

from __future__ import annotations

from collections.abc import Iterable
from random import Random

from msgspec import Struct

from justlane.engine.decision.judge import Question
from justlane.engine.facts.index import EstateIndex


class Coverage(Struct, frozen=True):
    """How much of a platform a probe looks at."""

    people: int
    """How many the directory has."""
    scopes: int
    """How many the platform has."""
    kinds_of_people: int
    """Kinds of people who ought to get the same everywhere; 0 if nobody was grouped."""
    kinds_of_scopes: int
    """Kinds of scopes where everybody ought to get the same; 0 if nothing was grouped."""
    drawn_people: int
    """People drawn besides one of each kind."""
    drawn_scopes: int
    """Scopes drawn besides one of each kind."""
    seed: int
    """What draws the same people and scopes again."""
    unseen_people: int = 0
    """Kinds of people of whom nobody was looked at, since there were too many."""
    unseen_scopes: int = 0
    """Kinds of scopes of which none was."""


class Chosen(Struct, frozen=True):
    """Whom and where."""

    people: tuple[str, ...]
    scopes: tuple[str, ...]
    coverage: Coverage


def everybody(index: EstateIndex, platform: str) -> Chosen:
    """Everybody, everywhere."""
    known = index.platform(platform).platform
    machines = known.accounts.machines if known.accounts else frozenset()
    people = tuple(login for login in index.membership.numbered.logins if login not in machines)
    scopes = tuple(known.scopes)
    return Chosen(people, scopes, Coverage(len(people), len(scopes), 0, 0, 0, 0, 0))


def one_of_each_kind(
    index: EstateIndex, platform: str, question: Question, sample: int, seed: int, most: int | None = None
) -> Chosen:
    """One person and one scope of each kind, and `sample` more of both; which ones, the seed decides. At most so many
    kinds of both, if that is said.

    Alike are people who stand behind the same of the names that bindings, ceilings and publications use, enabled or
    not; and scopes that no binding and no publication tells apart. Everybody is of one kind, and so is every scope.
    """
    from justlane.engine.surveys.access_table import AccessTable

    table = AccessTable(index, platform, question)
    draw = Random(seed)  # to be drawn again, not to be secret
    logins = table.logins[:-1]  # the last one has not signed in
    by_kind = _by_kind(zip(logins, table.person_classes.tolist(), strict=False))
    places = _by_kind(zip(table.addresses, table.place_classes.tolist(), strict=True))
    some_kinds, some_places = _at_most(by_kind, most, draw), _at_most(places, most, draw)
    people, more_people = _drawn(some_kinds, sample, draw)
    scopes, more_scopes = _drawn(some_places, sample, draw)
    numbers = (len(by_kind), len(places), len(more_people), len(more_scopes), seed)
    unseen = (len(by_kind) - len(some_kinds), len(places) - len(some_places))
    coverage = Coverage(len(logins), len(table.addresses), *numbers, *unseen)
    return Chosen((*people, *more_people), (*scopes, *more_scopes), coverage)


def _by_kind(pairs: Iterable[tuple[str, int]]) -> list[list[str]]:
    kinds: dict[int, list[str]] = {}
    for name, kind in pairs:
        kinds.setdefault(kind, []).append(name)
    return list(kinds.values())


def _at_most(kinds: list[list[str]], most: int | None, draw: Random) -> list[list[str]]:
    return kinds if most is None or len(kinds) <= most else draw.sample(kinds, most)


def _drawn(kinds: list[list[str]], sample: int, draw: Random) -> tuple[list[str], list[str]]:
    """One of each kind, and some of the others."""
    first = [draw.choice(some) for some in kinds]
    taken = set(first)
    others = [name for some in kinds for name in some if name not in taken]
    return first, draw.sample(others, min(sample, len(others)))
