"""What could be taken out without changing anything: each line carried out, on every day, beside the exact effect."""

from __future__ import annotations

from datetime import timedelta
from itertools import combinations
from unittest import TestCase

from hypothesis import HealthCheck, given, settings
from msgspec.structs import replace

from justlane.engine.changes.effect import changes_by
from justlane.engine.decision.deciding import Question
from justlane.engine.facts.index import EstateIndex
from justlane.engine.measures.flows import flows
from justlane.engine.measures.role_sizes import role_sizes
from justlane.engine.redundancy.fewest import fewest
from justlane.engine.redundancy.parts import parts_of
from justlane.engine.redundancy.spare import spare_parts
from justlane.engine.surveys.review import grants
from justlane.model.bindings import Binding
from justlane.model.edits import Withdraw
from justlane.model.estate import Administration, Estate
from justlane.model.findings import Source
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
        spare = spare_parts(index, "p", Question(NOW))
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
