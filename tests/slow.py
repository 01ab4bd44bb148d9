"""The slow ways, person by person and place by place: what the quick ones are checked against."""

from __future__ import annotations

from collections.abc import Collection

from justlane.engine.changes.comparison import Alike, CellChange, together
from justlane.engine.decision.explanation import in_words
from justlane.engine.decision.judge import Judge, Question, ancestors, judge
from justlane.engine.facts.index import EstateIndex
from justlane.engine.facts.membership import group
from justlane.engine.facts.people import NOBODY, Person, person, with_local_groups
from justlane.model.people import AUTHENTICATED


def compared(sides: tuple[EstateIndex, EstateIndex], question: Question, logins: Collection[str]) -> list[Alike]:
    """What changes for each of some people on platforms that either side has, those together who change alike."""
    found: dict[tuple[CellChange, ...], list[str]] = {}
    for login in logins:
        changes = [c for name in {n: 0 for s in sides for n in s.estate.platforms} for c in _on(sides, question, login, name)]
        changes.sort(key=lambda c: (not c.sensitive, c.action, c.scope))
        if changes:
            found.setdefault(tuple(changes), []).append(login)
    return [Alike(tuple(sorted(who)), changes) for changes, who in found.items()]


def _on(sides: tuple[EstateIndex, EstateIndex], question: Question, login: str, name: str) -> list[CellChange]:
    known = [side.platform(name) if name in side.estate.platforms else None for side in sides]
    zones = [side.estate.time_zone for side in sides]
    alone = []
    for side, prepared, zone in zip(sides, known, zones, strict=True):
        there = login == "anonymous" or login in side.estate.directory.users
        who = person(side, login, name, question.dated) if there else NOBODY
        alone.append(Judge(prepared, who, question, zone) if prepared else None)
    judges = together(alone, zones)
    declared = [p.platform for p in known if p]
    found = []
    for scope in {s: 0 for platform in declared for s in platform.scopes}:
        for action in {a: 0 for platform in declared for a in platform.actions}:
            was, now = (
                judging.allowed(action, scope)
                if judging and scope in judging.platform.platform.scopes and action in judging.platform.platform.actions
                else 0
                for judging in judges
            )
            if was != now:
                judging = next(j for j in judges if j)
                said = [in_words(judging, some) if some else None for some in (was, now)]
                sensitive = any(p.actions[action].sensitive for p in declared if action in p.actions)
                found.append(CellChange(action, scope, sensitive, bool(now & ~was), bool(was & ~now), *said))
    return found


def may_somewhere(index: EstateIndex, action: str, scope: str, only_there: bool, question: Question) -> dict[str, bool]:
    """Who may do an action at a scope, or anywhere in it, in some circumstances -> whether at some place in all."""
    prepared, found = index.platform(scope), dict[str, bool]()
    for login in (*index.estate.directory.users, "anonymous"):
        judging = judge(index, login, scope, question)
        for place in (scope,) if only_there else prepared.coverage.covered(scope):
            if some := judging.allowed(action, place):
                found[login] = found.get(login, False) or some == judging.space.full
    return found


def in_group(index: EstateIndex, platform: str, name: str, question: Question) -> Person:
    """Somebody who is in one group alone."""
    known = {*index.membership.principals_of(group(name)), AUTHENTICATED}
    return Person("", True, with_local_groups(index, platform, known, question.dated))


def kinds(index: EstateIndex, name: str, question: Question) -> tuple[int, int]:
    """How many kinds of people and of places there are on a platform."""
    prepared = index.platform(name)
    named = prepared.named | {AUTHENTICATED}
    everybody = (*index.estate.directory.users, "anonymous")
    people = [person(index, login, name, question.dated) for login in everybody]
    asking = prepared.platform.actions.get(prepared.platform.habits.on_the_way)
    known: dict[str, object] = {}
    places = set()
    for address, scope in prepared.platform.scopes.items():
        counting = frozenset((id(b), prepared.counts(b, address)) for b in prepared.covering_bindings(address))
        known[address] = scope.kind, counting
        way = [a for a in ancestors(address) if asking and asking.applies(prepared.platform.scopes[a].kind)]
        places.add((known[address], frozenset(known[above] for above in way)))
    return len({p.principals & named for p in people if p.enabled}), len(places)
