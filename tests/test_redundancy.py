"""What could be taken out without changing anything: each line carried out, on every day, beside the exact effect."""

from __future__ import annotations

from datetime import timedelta
from itertools import combinations
from unittest import TestCase

from hypothesis import HealthCheck, given, settings
from msgspec.structs import replace

from justlane.engine.changes.effect import changes_by
from justlane.engine.chart_numbers.flows import flows
from justlane.engine.chart_numbers.role_sizes import role_sizes
from justlane.engine.decision.judge import Judge, Question
from justlane.engine.facts.index import EstateIndex
from justlane.engine.facts.people import person
from justlane.engine.redundancy.fewest import fewest
from justlane.engine.redundancy.needs import Needs
from justlane.engine.redundancy.parts import parts_of
from justlane.engine.redundancy.spare import spare_everywhere
from justlane.engine.surveys.review import grants
from justlane.model.bindings import Binding
from justlane.model.edits import Withdraw
from justlane.model.estate import Administration, Estate, RolesHeld
from justlane.model.findings import Source
from justlane.model.progress import Progress
from justlane.model.roles import Pattern
from justlane.rules.interface import RULES, findings
from tests.drawing import NOW, estates

DAYS = range(8)  # all days on which something drawn begins or ends


def on_lines(estate: Estate) -> Estate:
    """The same estate with a line for each binding; a bundle's are one line."""
    lines = (replace(b, source=Source("x", 99 if b.bundle else n, 1)) for n, b in enumerate(estate.bindings))
    return replace(estate, bindings=tuple(lines))


def changes(index: EstateIndex, bindings: tuple[Binding, ...]) -> bool:
    days = (Question(NOW, day=NOW + timedelta(days=day)) for day in DAYS)
    found = (changes_by(index, Withdraw(bindings), asked) for asked in days)
    return any(some.change for one in found for some in (*one.found, *one.in_roles))


class EveryLineTakenOut(TestCase):
    @settings(max_examples=60, deadline=None, suppress_health_check=list(HealthCheck))
    @given(estates())
    def test_spare_is_exactly_what_changes_nothing_on_any_day(self, drawn: Estate) -> None:
        index = EstateIndex(on_lines(drawn))
        question = Question(NOW)
        spare = spare_everywhere(index, lambda name: Needs(index, name, question), question, Progress())["p"]
        said = {str(s.part) + str(s.part.source) for s in spare}
        for part in parts_of(index.estate.bindings):
            ended = all(b.condition.last_day and b.condition.last_day < NOW.date() for b in part.bindings)
            if not ended:
                self.assertEqual(str(part) + str(part.source) not in said, changes(index, part.bindings), part)
        together = tuple(b for s in spare if s.together for b in s.part.bindings)
        if together:
            self.assertFalse(changes(index, together))

    @settings(max_examples=40, deadline=None, suppress_health_check=list(HealthCheck))
    @given(estates())
    def test_the_fewest_lines_say_the_same_and_where_that_is_proven_no_choice_is_larger(self, drawn: Estate) -> None:
        index = EstateIndex(on_lines(drawn))
        found = fewest(index, "p", Question(NOW))
        gone = tuple(b for part in found.going for b in part.bindings)
        self.assertFalse(bool(gone) and changes(index, gone))
        self.assertGreaterEqual(len(found.going), sum(one.together for one in found.spare))
        if found.proven:
            parts = [one.part for one in found.spare]
            for larger in combinations(parts, len(found.going) + 1):
                self.assertTrue(changes(index, tuple(b for part in larger for b in part.bindings)))

    @settings(max_examples=60, deadline=None, suppress_health_check=list(HealthCheck))
    @given(estates())
    def test_whoever_cannot_get_in_is_found_as_one_by_one(self, drawn: Estate) -> None:
        index, question = EstateIndex(on_lines(drawn)), Question(NOW)
        needs = Needs(index, "p", question)
        prepared = needs.prepared
        one = prepared.platform.habits.roles_held is RolesHeld.ONE_AT_A_TIME
        for binding in (b for b in needs.bindings if b.allows and not b.built_in and needs.is_in_date(b)):
            held = prepared.roles.holdings(binding.role)
            covered = [at for at in prepared.coverage.covered(binding.scope) if prepared.covers(binding, at)]
            places = [at for at in covered if any(prepared.applies(action, at) for action in held)]
            out = reached = 0
            for login in (*drawn.directory.users, "anonymous"):
                somebody = person(index, login, "p", NOW)
                if not somebody.enabled or binding.principal not in somebody.principals:
                    continue
                reached += 1
                judging = Judge(prepared, somebody, question, drawn.time_zone)
                out += bool(places) and not any(self.gets_to(judging, binding.acting if one else None, at) for at in places)
            found, total, gate = needs.shut_out(binding)
            self.assertEqual((found, total), (out, reached), binding)
            self.assertEqual(gate is not None, bool(found))

    def gets_to(self, judging: Judge, role: str | None, address: str) -> bool:
        found = judging.space.full
        for gate in judging.needs(address):
            found &= judging.granted(role, gate.action, gate.scope)
        return bool(found)

    @settings(max_examples=25, deadline=None, suppress_health_check=list(HealthCheck))
    @given(estates())
    def test_every_rule_review_and_chart_can_look_at_any_estate(self, drawn: Estate) -> None:
        platform, at = drawn.platforms["p"], Source("x", 1, 1)
        platform = replace(
            platform,
            administration=Administration((Pattern("e*", at),), 1, at),
            habits=replace(platform.habits, lines={"unbound": at}),
            actions={name: replace(action, sensitive=True) for name, action in platform.actions.items()},
        )
        bundles = {b.bundle: frozenset(("p",)) for b in drawn.bindings if b.bundle}
        index = EstateIndex(replace(on_lines(drawn), platforms={"p": platform}, bundles=bundles))
        found = findings(index, NOW).flaws
        self.assertTrue(all(flaw.message and flaw.rule in RULES for flaw in found))
        people = {b.principal: g.people for g in grants(index, Question(NOW)) for b in g.part.bindings}
        for flow in flows(index, "p", Question(NOW)):
            known = next((count for principal, count in people.items() if str(principal) == flow.group), flow.people)
            self.assertEqual(flow.people, known)
        for size in role_sizes(index, "p", Question(NOW)):
            self.assertLessEqual(size.needed, size.holds)
