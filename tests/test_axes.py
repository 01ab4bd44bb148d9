"""Every axis of circumstances at every door: what is forgotten at one of them would allow something in all circumstances."""

import shlex
import unittest
from collections.abc import Iterator
from dataclasses import fields
from datetime import UTC, datetime, timedelta
from typing import Any

import msgspec

from justlane.engine.decision.circumstances import CircumstanceSpace, SituationSpace
from justlane.engine.decision.circumstances_in_words import boxes
from justlane.files.building.bindings import condition_of
from justlane.files.editing.adoption import when_of
from justlane.files.reading.shapes import SituationShape, WhenShape
from justlane.jobs.circumstances import NAMES
from justlane.model.circumstances import AXES, FACTS, MINUTES_A_WEEK, Axis, AxisPart, Circumstances, Condition, Situation, span_of, span_text
from justlane.platforms.abilities import EVERY_CONDITION, Abilities, said_conditions
from justlane.platforms.over_http.dialect import condition_of as read_back
from justlane.platforms.over_http.dialect import plain_condition
from justlane.platforms.proof.probe import context_of
from justlane.reports.outputs.answers import Box
from justlane.reports.parts.conditions import boxes_text, condition_text, plain_boxes, typed
from justlane.serving import answers
from justlane.serving.description import description
from justlane.standin import decisions, site
from tests.support import EstateTest

NOON = datetime(2026, 11, 25, 12, tzinfo=UTC)
ASKED = ("ben.ferry", "start-pump", "pumphall/west/pump-3")
DATES = {"first_day", "last_day"}
SITUATIONS = [
    Situation(address, factor, method, NOON + timedelta(minutes=minutes), managed, ago)
    for address in ("", "192.0.2.7", "198.51.100.1")
    for factor in (False, True)
    for method in ("", "key", "pin")
    for minutes in range(0, MINUTES_A_WEEK, 601)
    for managed in (False, True)
    for ago in (None, 0, 15, 16)
]


def asked() -> Iterator[tuple[Axis, AxisPart, Condition]]:
    """A condition on each part of each axis."""
    for axis in AXES:
        for part in axis.parts:
            yield axis, part, Condition(**{part.field: part.example})


class AxesTest(unittest.TestCase):
    def test_the_table_has_all_that_a_condition_and_a_situation_hold(self) -> None:
        parts = {part.field for axis in AXES for part in (*axis.parts, *axis.more)}
        self.assertEqual(parts | DATES, set(Condition.__struct_fields__))
        self.assertEqual({fact.field for fact in FACTS} | {"moment"}, set(Situation.__struct_fields__))
        self.assertEqual({field.name for field in fields(Circumstances)}, {*NAMES, "as_of"})

    def test_a_condition_holds_in_some_circumstances_and_not_in_all_and_both_ways_agree(self) -> None:
        for _, part, condition in asked():
            with self.subTest(part=part.key):
                self.assertTrue(condition.circumstantial)
                space = CircumstanceSpace([condition], NOON, "UTC")
                self.assertNotIn(space.of(condition), (0, space.full))
                held = {SituationSpace(s, NOON, "UTC").of(condition) for s in SITUATIONS}
                self.assertEqual(held, {0, 1})
                self.assertEqual(boxes_text(boxes(space, space.full)), "always")

    def test_words_say_what_is_asked(self) -> None:
        for _, part, condition in asked():
            with self.subTest(part=part.key):
                space = CircumstanceSpace([condition], NOON, "UTC")
                found = boxes(space, space.of(condition))
                self.assertTrue(condition_text(condition))
                self.assertEqual(boxes_text(found), condition_text(condition))
                self.assertNotEqual(boxes_text(boxes(space, space.full & ~space.of(condition))), condition_text(condition))
                (plain,) = plain_boxes(found)
                self.assertEqual(set(plain), set(Box.__annotations__))
                self.assertTrue([key for key, value in plain.items() if value not in ([], None, False)], plain)

    def test_the_words_of_files_lead_back_to_the_same(self) -> None:
        for _, part, condition in asked():
            with self.subTest(part=part.key):
                said = when_of(condition)
                self.assertEqual(list(said), [part.key])
                self.assertEqual(condition_of(WhenShape.model_validate(said)), condition)
                self.assertEqual(next(typed(condition)).removeprefix(part.key).strip(), ",".join(part.words(part.example)))
        for minutes in (1, 15, 60, 90, 1440, 10080, 2880):
            self.assertEqual(span_of(span_text(minutes)), minutes)

    def test_platforms_are_told_and_what_a_connector_does_not_say_is_refused(self) -> None:
        self.assertEqual(set(site.Condition.__struct_fields__), set(Condition.__struct_fields__))
        self.assertEqual(Abilities().conditions, frozenset())
        for axis, part, condition in asked():
            with self.subTest(part=part.key):
                self.assertEqual(said_conditions(condition), [axis.name])
                self.assertIn(axis.name, EVERY_CONDITION)
                plain = plain_condition(condition)
                self.assertEqual(read_back(plain), condition)
                self.assertNotEqual(plain, plain_condition(Condition()))
                msgspec.convert(plain, site.Condition)
                self.assertNotEqual(str(condition), str(Condition()))

    def test_a_platform_that_says_nonsense_of_a_sign_in_is_read_as_saying_nothing(self) -> None:
        for odd in (-1, -1440, "15 minutes", 1.5, [15], True):
            with self.subTest(odd=odd):
                self.assertEqual(read_back({"signed_in_within": odd}), Condition())
        self.assertEqual(read_back({"signed_in_within": 15}), Condition(signed_in_within=15))

    def test_situations_are_asked_about_everywhere(self) -> None:
        described = description("http://x")["components"]["schemas"]["Context"]["properties"]
        self.assertEqual(set(described), set(answers.QuestionContext.__struct_fields__))
        for fact in FACTS:
            with self.subTest(fact=fact.field):
                self.assertIn(fact.field, SituationShape.model_fields)
                self.assertIn(fact.field, answers.QuestionContext.__struct_fields__)
                self.assertIn(fact.field, decisions.Context.__struct_fields__)
        context = answers.QuestionContext("192.0.2.7", True, "key", True, 5)
        asked = answers._question(context, "UTC")
        self.assertEqual(asked.situation, Situation("192.0.2.7", True, "key", None, True, 5))
        self.assertLessEqual({(fact.field, getattr(context, fact.field)) for fact in FACTS}, set(context_of(asked).items()))


class AxesInFilesTest(EstateTest):
    forked = True

    def setUp(self) -> None:
        super().setUp()
        self.pumphall()
        self.write({"expectations.yaml": "expectations: []\n"})

    def test_each_is_given_and_taken_back_by_the_built_program(self) -> None:
        before = (self.folder / "pumphall.yaml").read_text()
        for _, part, condition in asked():
            with self.subTest(part=part.key):
                self.assertEqual(self.given(*typed(condition)), condition)
                self.assertEqual(self.ask(code=1)["answer"], "only if")
                self.assertIn(condition_text(condition), self.lane("ask ben.ferry start-pump pumphall/west/pump-3", 1).out)
                self.lane("undo --yes")
        self.assertEqual((self.folder / "pumphall.yaml").read_text(), before)

    def test_a_managed_device_and_a_fresh_sign_in_turn_an_answer(self) -> None:
        self.given("on a managed device", "signed in within 15 minutes")
        for options, code in (
            ("--managed-device --signed-in-ago '15 minutes'", 0),
            ("--managed-device --signed-in-ago '16 minutes'", 1),
            ("--no-managed-device --signed-in-ago '1 minute'", 1),
            ("--managed-device", 1),
            ("--situation desk", 0),
            ("--situation abroad", 1),
        ):
            with self.subTest(options=options):
                desk = "desk: {on a managed device: yes, signed in ago: 5 minutes}, abroad: {signed in ago: 5 minutes}"
                self.write({"expectations.yaml": f"expectations: []\nsituations: {{{desk}}}\n"})
                self.ask(*shlex.split(options), code=code)
        self.assertIn("--signed-in-ago: 'soon' is no span of time", self.run_lane("ask", *ASKED, "--signed-in-ago", "soon").err)
        text = (self.folder / "pumphall.yaml").read_text().replace("signed in within: 15 minutes", "signed in within: soon")
        self.write({"pumphall.yaml": text})
        self.assertIn("a span such as", self.run_lane("check").out)

    def given(self, *when: str) -> Condition:
        """What a role is given under, as the files say it, after the program wrote it there."""
        words = ["give", "mechanic", "--to", "user ben.ferry", "--at", "pumphall/west", "--until", "2999-12-31", "--because", "x", "--yes"]
        ran = self.run_lane(*words, *(word for text in when for word in ("--when", text)))
        self.assertEqual(ran.code, 0, ran.err)
        found = next(b for b in self.index().estate.bindings if b.reason == "x").condition
        return msgspec.structs.replace(found, last_day=None)

    def ask(self, *options: str, code: int) -> Any:
        ran = self.run_lane("ask", *ASKED, *options, "--format", "json")
        self.assertEqual(ran.code, code, ran)
        return ran.json


if __name__ == "__main__":
    unittest.main()
