"""The engine against a second evaluator that shares no code with it, on estates drawn at random.

`python -m tests.test_random_estates N` checks N estates more, some million cells.
"""

import dataclasses
import ipaddress
import sys
import tempfile
import unittest
from collections.abc import Callable, Mapping
from pathlib import Path
from typing import Any
from unittest import mock
from zoneinfo import ZoneInfo

import msgspec
import numpy as np
from hypothesis import HealthCheck, assume, given, settings
from hypothesis import strategies as st

from justlane.cli.platforms.standin import nature_of
from justlane.directories.interface import read_people
from justlane.engine.changes.comparison import Side, compare, differences
from justlane.engine.changes.effect import effect_of
from justlane.engine.classes.people_by_name import PeopleByName
from justlane.engine.compiled.flat_platform import count_cells
from justlane.engine.compiled.tally import tally
from justlane.engine.decision.axes import AgeRange
from justlane.engine.decision.circumstances_in_words import Box
from justlane.engine.decision.explanation import Chain, all_chains, answer, in_words
from justlane.engine.decision.judge import Judge, Question, cells_of, judge, may
from justlane.engine.facts.edited import with_edit
from justlane.engine.facts.index import EstateIndex
from justlane.engine.facts.membership import MembershipIndex
from justlane.engine.facts.people import people_behind, person
from justlane.engine.facts.sources import ListedBindings
from justlane.engine.offers.suggestions import Turn, reply
from justlane.engine.offers.together import WantedCell, suggest
from justlane.engine.questions.expectations import verify
from justlane.engine.questions.holders import holders
from justlane.engine.questions.sight import seen as seen_by
from justlane.engine.surveys.grid import grid
from justlane.files.opening.load import load
from justlane.model.bindings import Binding
from justlane.model.circumstances import Outcome, Situation
from justlane.model.edits import Give
from justlane.model.estate import Decides, Estate
from justlane.model.expectations import AtMostMay, Duty, Extent, NobodyMayBoth, OnlyGroupMay, UserMay, UserMayNot
from justlane.model.people import ANONYMOUS, AUTHENTICATED, Principal, PrincipalKind
from justlane.platforms.over_http.dialect import declared_parts
from justlane.standin.decisions import Context, Ruling
from justlane.standin.site import PARTS, Site
from tests import slow
from tests.drawing import ACTIONS, AT, FACTS, NOW, ROLES, USERS, estates
from tests.oracle import Facts, Oracle, like
from tests.writing import carried_out, made_sound, written

EVERYBODY = [*USERS, "anonymous"]
ACTING = [*ROLES, "bundle k1", "bundle k2"]
quick = settings(deadline=None, suppress_health_check=list(HealthCheck))


def asked_in(facts: Facts, role: str = "") -> Question:
    return Question(NOW, Situation(facts.address, facts.multi_factor, facts.method, facts.moment, facts.managed, facts.ago), role)


def fulfils(facts: Facts, box: Box) -> bool:
    """Whether circumstances lie in a box, by reading the box."""
    inside = [(not a.inside or within(facts.address, a.inside)) and not any(within(facts.address, n) for n in a.but_not) for a in box.addresses]
    clock = facts.moment.astimezone(ZoneInfo("Europe/Amsterdam"))
    minute = clock.hour * 60 + clock.minute
    times = [
        clock.weekday() in t.days
        and (not t.hours or any(h.start <= minute < h.end if h.start < h.end else minute >= h.start or minute < h.end for h in t.hours))
        for t in box.times
    ]
    return (
        (not box.addresses or any(inside))
        and all(facts.multi_factor == side if field == "multi_factor" else facts.managed == side for field, side in box.sides)
        and (not box.signed_in or any(_aged(facts.ago, a) for a in box.signed_in))
        and (not box.methods or (facts.method in box.methods) != box.other_methods)
        and (not box.times or any(times))
    )


def _aged(ago: int | None, part: AgeRange) -> bool:
    return part.within is None if ago is None else part.over - (part.over == 0) < ago and (part.within is None or ago <= part.within)


def within(address: str, network: str) -> bool:
    return bool(address) and ipaddress.ip_address(address) in ipaddress.ip_network(network)


def every_cell(estate: Estate) -> list[tuple[str, str, str]]:
    return [(u, a, s) for u in EVERYBODY for s in estate.platforms["p"].scopes for a in ACTIONS]


def in_situations(estate: Estate, facts: Facts, role: str) -> None:
    """Every cell, in one situation: asked one by one, all at once, and in one role."""
    index, oracle = EstateIndex(estate), Oracle(estate, "p", facts)
    cells = {user: cells_of(judge(index, user, "p", asked_in(facts)), "p") for user in EVERYBODY}
    for user, action, scope in every_cell(estate):
        expected = oracle.may(user, action, scope)
        assert may(index, user, action, scope, asked_in(facts)) == expected, (user, action, scope, facts)
        assert (action in cells[user].get(scope, {})) == expected
        assert may(index, user, action, scope, asked_in(facts, role)) == oracle.may(user, action, scope, role), role


def in_all_circumstances(estate: Estate) -> None:
    """Without a situation: yes, no or only if, and the words are right under every assignment."""
    index = EstateIndex(estate)
    oracles = [(facts, Oracle(estate, "p", dataclasses.replace(facts, asked=NOW))) for facts in FACTS]
    for user, action, scope in every_cell(estate):
        found = answer(index, user, action, scope, Question(NOW))
        truths = [oracle.may(user, action, scope) for _, oracle in oracles]
        if found.outcome is Outcome.ONLY_IF:
            assert found.conditions
            said = [any(fulfils(facts, box) for box in found.conditions) for facts, _ in oracles]
            assert said == truths, (user, action, scope, found.conditions)
            ways = [any(fulfils(facts, box) for chain in found.chains for box in chain.circumstances) for facts, _ in oracles]
            assert ways == truths, "the ways, each where it gives the answer, are all there is to it"
        else:
            assert set(truths) == {found.outcome is Outcome.YES}, (user, action, scope, found.outcome)
            assert bool(found.failures) == (found.outcome is Outcome.NO)


def chains_hold(estate: Estate, user: str, action: str, scope: str, facts: Facts) -> None:
    """Each chain, link by link; and the estate with the bindings of one chain alone still says yes."""
    index = EstateIndex(estate)
    found = answer(index, user, action, scope, asked_in(facts))
    assert bool(found.chains) == found.allowed
    for chain in found.chains:
        replay(estate, user, action, scope, chain)
    for need in found.needs:
        for chain in need.chains:
            replay(estate, user, need.action, need.scope, chain)


def replay(estate: Estate, user: str, action: str, scope: str, chain: Chain) -> None:
    platform = estate.platforms["p"]
    at = ANONYMOUS if user == "anonymous" else Principal(PrincipalKind.USER, user)
    for step in chain.memberships:
        assert step.member == at
        local = step.group.kind is PrincipalKind.LOCAL_GROUP
        group = platform.local_groups[step.group.name] if local else estate.directory.groups[step.group.name]
        assert at in [m.member for m in group.members]
        at = step.group
    assert chain.binding.principal in ((ANONYMOUS,) if user == "anonymous" else (at, AUTHENTICATED))
    holder, held = chain.binding.role, action
    for link in reversed(chain.role):  # from the action back to the role
        if link.kind == "implies":
            assert link.object == held
            assert held in [i.text for i in platform.actions[link.subject].implies]
            held = link.subject
        elif link.kind == "allows":
            assert link.object in [p.text for p in platform.roles[link.subject].allows]
            assert like(link.object, held)
            holder = link.subject
        else:
            assert (link.object, link.object in [b.text for b in platform.roles[link.subject].builds_on]) == (holder, True)
            holder = link.subject
    assert holder == chain.binding.role
    place = chain.binding.scope
    for cover in chain.coverage:
        outer, inner = platform.scopes[cover.outer], platform.scopes[cover.inner]
        linked = inner.address in [g.address for g in outer.gathers] if cover.gathers else inner.parent == outer.address
        assert cover.outer == place
        assert linked
        place = cover.inner
    assert place == scope


def misses_turn(estate: Estate, user: str, action: str, scope: str, facts: Facts) -> None:
    """A no has a reason, and what is offered really turns it: other circumstances, or an edit of the text, read anew."""
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        before = read_from(folder, written(made_sound(estate)))
        found = reply(before, user, action, scope, asked_in(facts))
        assert bool(found.answer.failures) == (found.answer.outcome is Outcome.NO)
        for miss in found.misses:
            if miss.edit:
                after = read_from(folder, carried_out(written(made_sound(estate)), miss.edit))
                assert may(after, user, action, scope, asked_in(facts)), miss
                whole = differences((before, after), Question(NOW, day=facts.moment))
                assert miss.effect == effect_of(whole), (miss, whole)
            elif miss.turn is Turn.CIRCUMSTANCES:
                for other in (f for f in FACTS if f.moment == facts.moment and miss.conditions):
                    expected = any(fulfils(other, box) for box in miss.conditions)
                    assert may(before, user, action, scope, asked_in(other)) == expected, (miss, other)
        if found.answer.outcome is Outcome.NO and not any(miss.edit for miss in found.misses):
            nothing_new_would_do(before, user, action, scope, facts)


def read_from(folder: Path, files: Mapping[str, str]) -> EstateIndex:
    for name, text in files.items():
        (folder / name).write_text(text)
    loaded = load(folder, read_people)
    assume(loaded.estate is not None)  # one that an author would not be let write
    return loaded.ready


def nothing_new_would_do(index: EstateIndex, user: str, action: str, scope: str, facts: Facts) -> None:
    """No single line more, to the person or a group of theirs, would turn it."""
    prepared = index.platform("p")
    for principal in person(index, user, "p", facts.moment).principals - {AUTHENTICATED}:
        for role in ROLES:
            for at in prepared.platform.scopes:
                after = with_edit(index, Give((Binding(principal, role, at, "", AT),)))
                assert not may(after, user, action, scope, asked_in(facts)), (principal, role, at)


PARTS_OF_PLATFORMS = ["roles", "scopes", "publications", "ceilings", "local_groups", "habits"]


def mixed(estate: Estate, other: Estate, parts: set[str]) -> Estate:
    """An estate with some parts of another one, as far as they go together."""
    platform, theirs = estate.platforms["p"], other.platforms["p"]
    changed = msgspec.structs.replace(platform, **{part: getattr(theirs, part) for part in parts.intersection(PARTS_OF_PLATFORMS)})
    found = msgspec.structs.replace(
        estate,
        platforms={"p": changed},
        directory=other.directory if "directory" in parts else estate.directory,
        bindings=other.bindings if "bindings" in parts else estate.bindings,
    )
    denies = changed.habits.decides is Decides.ANY_ALLOW and any(not b.allows for b in found.bindings)
    gathers = changed.habits.decides is Decides.NEAREST and any(s.gathers for s in changed.scopes.values())
    assume(not denies and not gathers and all(b.scope in changed.scopes and b.role in changed.roles for b in found.bindings))
    assume(all(p.scope in changed.scopes for p in changed.publications))
    return found


class EveryCell:
    """Every cell of drawn estates that decide by one habit, by two evaluators that share nothing."""

    habit: Decides

    @settings(quick, max_examples=125)
    @given(st.data(), st.sampled_from(FACTS), st.sampled_from(ACTING))
    def test_every_cell_in_a_situation(self, data: st.DataObject, facts: Facts, role: str) -> None:
        in_situations(data.draw(estates(self.habit)), facts, role)

    @settings(quick, max_examples=38)
    @given(st.data())
    def test_only_if_under_every_assignment(self, data: st.DataObject) -> None:
        in_all_circumstances(data.draw(estates(self.habit)))

    @settings(quick, max_examples=63)
    @given(st.data(), st.sampled_from(EVERYBODY), st.sampled_from(ACTIONS), st.sampled_from(FACTS))
    def test_every_chain_holds_link_by_link(self, data: st.DataObject, user: str, action: str, facts: Facts) -> None:
        estate = data.draw(estates(self.habit))
        chains_hold(estate, user, action, data.draw(st.sampled_from(list(estate.platforms["p"].scopes))), facts)


class AnyAllowTest(EveryCell, unittest.TestCase):
    habit = Decides.ANY_ALLOW


class DenyWinsTest(EveryCell, unittest.TestCase):
    habit = Decides.DENY_WINS


class LastMatchTest(EveryCell, unittest.TestCase):
    habit = Decides.LAST_MATCH


class NearestTest(EveryCell, unittest.TestCase):
    habit = Decides.NEAREST


class RandomEstatesTest(unittest.TestCase):
    @settings(quick, max_examples=150)
    @given(estates(), st.sampled_from(FACTS), st.sampled_from(["", *ACTING]))
    def test_the_compiled_form_counts_what_is_judged_cell_by_cell(self, estate: Estate, facts: Facts, role: str) -> None:
        index = EstateIndex(estate)
        for question in (asked_in(facts, role), Question(NOW, None, role)):
            always = possibly = 0
            for user in EVERYBODY:
                judging = judge(index, user, "p", question)
                cells = [some for at in cells_of(judging, "p").values() for some in at.values()]
                always += sum(some == judging.space.full for some in cells)
                possibly += len(cells)
            self.assertEqual(count_cells(index, "p", question), (always, possibly))
            with mock.patch("justlane.engine.compiled.flat_platform.MOST_WORLDS", 1), mock.patch("justlane.engine.compiled.count.MOST_WORLDS", 2):
                self.assertEqual(count_cells(index, "p", question), (always, possibly), "in portions")

    @settings(quick, max_examples=60)
    @given(estates())
    def test_whom_a_name_stands_for_is_the_same_one_by_one_and_for_everybody(self, estate: Estate) -> None:
        index = EstateIndex(estate)
        everybody = PeopleByName(index, "p", NOW, index.platform("p").named)
        for name in everybody.names:
            known = {"anonymous"} if name == ANONYMOUS else set(people_behind(index, name, "p", NOW))
            self.assertEqual(set(everybody.logins(everybody.having(name))), known)
        told_apart = [(names, everybody.in_order(users)) for names, users in everybody.classes()]
        for user in EVERYBODY:
            somebody = person(index, user, "p", NOW)
            own = [somebody.principals & frozenset(everybody.names)] if somebody.enabled else []
            self.assertEqual([names for names, users in told_apart if user in users], own)
        for some in (everybody.names[:1], everybody.names[1:]):
            there = np.flatnonzero(everybody.there)
            each = {user for _, users in everybody.classes(there, everybody.marked(some)) for user in users.tolist()}
            self.assertEqual(each, set(there.tolist()))
            for names, users in everybody.classes(there, everybody.marked(some)):
                for login in everybody.logins(users):
                    self.assertEqual(person(index, login, "p", NOW).principals & set(some), names)

    @settings(quick, max_examples=250)
    @given(estates(), st.sampled_from(FACTS), st.sampled_from(["", *ACTING]))
    def test_the_stand_in_decides_alike(self, estate: Estate, facts: Facts, role: str) -> None:
        index, oracle = EstateIndex(estate), Oracle(estate, "p", facts)
        parts: dict[str, Any] = {
            part: {name: msgspec.convert(entry, PARTS[part]) for name, entry in entries.items()}
            for part, entries in declared_parts(index, "p", NOW).parts.items()
        }
        ruling = Ruling(Site("p", nature_of(estate, "p"), **parts))
        context = Context(facts.address, facts.multi_factor, facts.method, facts.managed, facts.ago, facts.moment.isoformat(), role)
        for user in USERS:
            reached = cells_of(judge(index, user, "p", asked_in(facts, role)), "p")
            seen = {s.address: ([*s.holds, *s.gathers], s.inside) for s in seen_by(index.platform("p").coverage, reached, "p").values()}
            self.assertEqual({scope: (some.lists, some.total) for scope, some in ruling.sees(user, context).items()}, seen)
            for scope in estate.platforms["p"].scopes:
                for action in ACTIONS:
                    expected = oracle.may(user, action, scope, role)
                    self.assertEqual(ruling.allows(user, action, scope, context), expected, (user, action, scope))

    @settings(quick, max_examples=150)
    @given(estates(), st.sampled_from(FACTS), st.sampled_from(["", *ACTING]), st.sampled_from(ACTIONS))
    def test_whoever_may_is_found_without_looking_at_everybody(self, estate: Estate, facts: Facts, role: str, action: str) -> None:
        index = EstateIndex(estate)
        for question in (asked_in(facts, role), Question(NOW, None, role)):
            for scope in estate.platforms["p"].scopes:
                expected = {}
                for user in EVERYBODY:
                    judging = judge(index, user, scope, question)
                    if some := judging.allowed(action, scope):
                        expected[user] = in_words(judging, some), all_chains(index, judging, action, scope)
                found = holders(index, action, scope, question).holders
                self.assertEqual([h.user for h in found], sorted(expected, key=lambda user: (user == "anonymous", user)))
                self.assertEqual({h.user: (h.conditions, h.chains) for h in found}, expected)

    @settings(quick, max_examples=100)
    @given(estates(), st.data())
    def test_a_comparison_names_exactly_the_cells_that_change(self, estate: Estate, data: st.DataObject) -> None:
        fewer = tuple(b for b in estate.bindings if data.draw(st.booleans()))
        changed = Estate(estate.name, "", estate.time_zone, estate.directory, estate.platforms, fewer, ())
        question = asked_in(data.draw(st.sampled_from(FACTS)))
        indexes = EstateIndex(estate), EstateIndex(changed)
        found = compare(Side("a", indexes[0]), Side("b", indexes[1]), question)
        said = {(u, c.action, c.scope, c.gains) for g in found.groups for u in g.users for c in g.changes}
        was, now = ({cell for cell in every_cell(estate) if may(i, *cell, question)} for i in indexes)
        self.assertEqual(said, {(*c, True) for c in now - was} | {(*c, False) for c in was - now})
        self.assertEqual((found.gained, found.lost), (len(now - was), len(was - now)))

    @settings(quick, max_examples=70)
    @given(estates(), estates(), st.sets(st.sampled_from(["bindings", "directory", *PARTS_OF_PLATFORMS])), st.sampled_from(["", *ACTING]))
    def test_many_are_compared_as_one_by_one(self, before: Estate, other: Estate, parts: set[str], role: str) -> None:
        after = mixed(before, other, parts)
        sides = Side("before", EstateIndex(before)), Side("after", EstateIndex(after))
        for question in (Question(NOW, None, role), asked_in(FACTS[0], role)):
            one_by_one = slow.compared((sides[0].index, sides[1].index), question, EVERYBODY)
            found = compare(*sides, question).groups
            self.assertEqual(sorted(found, key=lambda g: g.users), sorted(one_by_one, key=lambda g: g.users))

    @settings(quick, max_examples=70)
    @given(estates(), estates(), st.sets(st.sampled_from(["bindings", "people"])), st.sampled_from(["", *ACTING]))
    def test_few_are_compared_as_one_by_one(self, before: Estate, other: Estate, parts: set[str], role: str) -> None:
        after = mixed(before, other, parts & {"bindings"})
        index, people = EstateIndex(before), other.directory if "people" in parts else before.directory
        platform = index.platform("p")
        changed = platform.changed(platform.platform, ListedBindings(after.bindings))
        sides = index, index.changed({"p": changed}, MembershipIndex(people), people)
        for question in (Question(NOW, None, role), asked_in(FACTS[0], role)):
            one_by_one = slow.compared(sides, question, EVERYBODY)
            found = differences(sides, question, EVERYBODY).groups()
            self.assertEqual(sorted(found, key=lambda g: g.users), sorted(one_by_one, key=lambda g: g.users))

    @settings(quick, max_examples=50)
    @given(estates(), st.sampled_from(["", *ACTING]), st.sampled_from(ACTIONS), st.booleans())
    def test_a_grid_has_what_is_judged_field_by_field(self, estate: Estate, role: str, action: str, of_groups: bool) -> None:
        index = EstateIndex(estate)
        for question in (Question(NOW, None, role), asked_in(FACTS[0], role)):
            found = grid(index, "p", action, question, of_groups=of_groups)
            expected = {}
            for name in estate.directory.groups if of_groups else EVERYBODY:
                known = slow.in_group(index, "p", name, question) if of_groups else person(index, name, "p", question.dated)
                judging = Judge(index.platform("p"), known, question, estate.time_zone)
                for scope in estate.platforms["p"].scopes:
                    if known.enabled and index.platform("p").applies(action, scope):
                        some = judging.allowed(action, scope)
                        expected[name, scope] = Outcome.NO if not some else Outcome.YES if some == judging.space.full else Outcome.ONLY_IF
            fields = [
                ((name, scope), outcome)
                for row in found.rows
                for scopes, outcome in zip(found.columns, row.outcomes, strict=True)
                for name in row.names
                for scope in scopes
            ]
            self.assertEqual(sorted(fields), sorted(expected.items()))
            self.assertEqual(len({row.outcomes for row in found.rows}), len(found.rows))
            self.assertEqual(len({*zip(*(row.outcomes for row in found.rows), strict=True)}), len(found.columns))

    @settings(quick, max_examples=60)
    @given(estates(), st.sampled_from(ACTIONS), st.sampled_from(ACTIONS), st.sampled_from(["g", "h"]), st.sampled_from(EVERYBODY), st.data())
    def test_expectations_hold_as_judged_one_by_one(self, estate: Estate, one: str, other: str, group: str, user: str, data: st.DataObject) -> None:
        platform = estate.platforms["p"]
        scope, extent = data.draw(st.sampled_from(list(platform.scopes))), data.draw(st.sampled_from([Extent.AT, Extent.ANYWHERE]))
        index, duties = EstateIndex(estate), (Duty(one, scope, extent), Duty(other, scope, extent))
        able = [slow.may_somewhere(index, duty.action, scope, extent is Extent.AT, Question(NOW)) for duty in duties]
        inside = set(index.membership.users_in(group))
        wrong = {
            OnlyGroupMay(source=AT, group=group, duties=duties): sum(len(some.keys() - inside) for some in able),
            AtMostMay(source=AT, limit=1, duties=duties): sum(len(some) + 1 for some in able if len(some) > 1),
            NobodyMayBoth(source=AT, duties=duties): 2 * len(able[0].keys() & able[1].keys()),
            UserMay(source=AT, user=user, duties=duties): sum(not some.get(user) for some in able),
            UserMayNot(source=AT, user=user, duties=duties): sum(user in some for some in able),
        }
        if one != other:
            judged = verify(EstateIndex(msgspec.structs.replace(estate, expectations=tuple(wrong))), NOW)
            self.assertEqual({v.expectation: len(v.evidence) for v in judged}, wrong)

    @settings(quick, max_examples=60)
    @given(estates(), st.sampled_from(FACTS))
    def test_kinds_of_people_and_places_are_counted_as_one_by_one(self, estate: Estate, facts: Facts) -> None:
        index = EstateIndex(estate)
        found = tally(index, "p", asked_in(facts))
        self.assertEqual((found.user_classes, found.scope_classes), slow.kinds(index, "p", asked_in(facts)))

    @settings(quick, max_examples=60)
    @given(estates(), st.sampled_from(EVERYBODY), st.sampled_from(ACTIONS), st.sampled_from(FACTS), st.data())
    def test_every_no_has_a_reason_and_every_miss_turns_it(self, estate: Estate, user: str, action: str, facts: Facts, data: st.DataObject) -> None:
        misses_turn(estate, user, action, data.draw(st.sampled_from(list(estate.platforms["p"].scopes))), facts)

    @settings(quick, max_examples=40)
    @given(estates(), st.lists(st.tuples(st.sampled_from(USERS), st.sampled_from(ACTIONS), st.integers(0, 9)), min_size=1, max_size=2), st.booleans())
    def test_what_is_suggested_gives_or_takes_away_exactly_that(self, estate: Estate, asked: list[tuple[str, str, int]], take_away: bool) -> None:
        offers_do(estate, asked, take_away=take_away)


def offers_do(estate: Estate, asked: list[tuple[str, str, int]], *, take_away: bool) -> None:
    """What is offered together does what is needed; no single edit that `ask` knows does it with less."""
    scopes = list(estate.platforms["p"].scopes)
    needs = [WantedCell(user, action, scopes[at % len(scopes)]) for user, action, at in dict.fromkeys(asked)]
    question = Question(NOW)
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        before = read_from(folder, written(made_sound(estate)))
        found = suggest(before, needs, question, take_away=take_away)
        left = [need for need in needs if need not in (*found.met, *found.impossible)]
        assert all(may(before, *need.key, question) != take_away for need in found.met)
        best: list[int] = []
        for offer in found.offers:
            if len(offer.steps) == 1:
                after = read_from(folder, carried_out(written(made_sound(estate)), offer.steps[0].edit))
                assert offer.effect == effect_of(differences((before, after), question)), offer
            else:
                after = before
                for step in offer.steps:
                    after = with_edit(after, step.edit)
            assert all(may(after, *need.key, question) != take_away for need in left), offer
            assert offer.proven
            best.append(offer.excess)
        assert best == sorted(best)
        if len(left) == 1 and not take_away:
            known = [m.effect for m in reply(before, *left[0].key, question).misses if m.edit and m.effect]
            assert not known or best[0] <= min(effect.gained + effect.lost for effect in known) - 1


def many(count: int) -> None:
    """Check more estates than the tests do."""
    cells = [0]

    @settings(quick, max_examples=count, database=None)
    @given(estates(), st.sampled_from(FACTS), st.sampled_from(ACTING))
    def check(estate: Estate, facts: Facts, role: str) -> None:
        in_situations(estate, facts, role)
        cells[0] += 3 * len(every_cell(estate))

    run: Callable[[], None] = check
    run()
    print(f"{count} estates, {cells[0]:,} decisions agree")


if __name__ == "__main__":
    many(int(sys.argv[1]) if len(sys.argv) > 1 else 10_000)
