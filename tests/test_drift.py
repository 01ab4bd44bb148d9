"""Drift: what a platform holds beside what is declared, what that means for whom, and taking it over."""

from __future__ import annotations

import json
from pathlib import Path
from typing import Any
from unittest import TestCase

from hypothesis import HealthCheck, given, settings, strategies
from msgspec.structs import replace

from justlane.engine.decision.judge import Judge
from justlane.engine.facts.index import EstateIndex
from justlane.engine.facts.people import ANONYMOUS_NAME, NOBODY, person
from justlane.model.errors import UsageError
from justlane.model.estate import Decides, Estate, Managed
from justlane.platforms.alignment import readings
from justlane.platforms.alignment.drift import DifferenceKind, drift
from justlane.platforms.alignment.plan import plan
from justlane.platforms.interface import Reading
from justlane.platforms.over_http.dialect import as_read, declared_parts
from tests.drawing import FACTS, NOW, estates
from tests.support import EstateTest
from tests.test_random_estates import asked_in

BEHIND = "tamsin.quill release-publisher buildyard/release"


class DriftTest(EstateTest):
    forked = True

    def setUp(self) -> None:
        super().setUp()
        self.saltmarsh()

    def drift(self, *words: str, code: int = 1) -> Any:
        ran = self.run_lane("drift", "buildyard", "--format", "json", *words)
        self.assertEqual(ran.code, code, ran.out + ran.err)
        return ran.json

    def test_what_was_done_behind_our_back_is_found_with_what_it_means_and_taken_over_or_mended(self) -> None:
        with self.standing_in("buildyard"):
            self.lane("align buildyard --yes")
            self.assertIn("matches", self.lane("drift buildyard").out)
            self.lane(f"meddle buildyard grant {BEHIND}")
            found = self.drift()[0]
            self.assertEqual([(d["difference"], d["part"]) for d in found["differences"]], [("added", "bindings")])
            means = found["differences"][0]["means"]
            self.assertEqual((means["named"], means["more"], means["less"], means["sensitive"]), (["tamsin.quill"], 5, 0, ["publish-release"]))
            first = sorted(path.stem for path in (self.folder / "readings" / "buildyard").glob("*.json"))
            self.assertEqual(len(first), 3, "what drift saw twice, and what was there before the run, for `--undo`")
            self.assertEqual((self.folder / "readings" / ".gitignore").read_text(), "*\n")
            then = self.drift("--since", first[1])[0]
            self.assertEqual((then["against"], len(then["differences"])), (first[1], 1))
            before = (self.folder / "bindings" / "builds.yaml").read_bytes()
            ran = self.run_lane("drift", "buildyard", "--adopt", "--yes")
            self.assertNotEqual(ran.code, 0)
            self.assertIn("what is expected would not hold any more", ran.err)
            self.assertEqual((self.folder / "bindings" / "builds.yaml").read_bytes(), before)
            self.assertEqual(self.run_lane("drift", "buildyard", "--adopt", "--yes", "--even-so", "It was right.").code, 0)
            self.lane("ask tamsin.quill publish-release buildyard/release/live")
            self.assertEqual(self.drift()[0]["all"]["more"], 0)
            self.lane("undo --yes")
            self.lane("align buildyard --yes")
            self.assertEqual(self.drift(code=0)[0]["differences"], [])

    def manage(self, said: str) -> None:
        """Say what the estate answers for on the build yard."""
        path = self.folder / "platforms" / "buildyard.yaml"
        text = "".join(part for part in path.read_text().splitlines(keepends=True) if not part.startswith("manages:"))
        path.write_text(text.replace("\nactions:\n", f"\nmanages: {said}\n\nactions:\n" if said else "\nactions:\n", 1))

    def test_what_is_not_managed_is_left_alone_and_shown_apart(self) -> None:
        with self.standing_in("buildyard"):
            self.lane("align buildyard --yes")
            self.lane(f"meddle buildyard grant {BEHIND}")
            self.lane("meddle buildyard grant tamsin.quill pipeline-runner buildyard/forecast")
            for said, inside in (
                ("{places: buildyard/release}", ["release-publisher"]),
                ("{places: buildyard/fore*}", ["pipeline-runner"]),
                ("{roles: release-*}", ["release-publisher"]),
                ("{accounts: user tam*}", ["release-publisher", "pipeline-runner"]),
                ("{accounts: group tool-keepers}", []),
            ):
                with self.subTest(said):
                    self.manage(said)
                    found = self.drift(code=1 if inside else 0)[0]
                    told = [{d["held"]["role"] for d in found[key] if d["part"] == "bindings"} for key in ("differences", "outside")]
                    self.assertEqual(told, [set(inside), {"release-publisher", "pipeline-runner"} - set(inside)])
            self.manage("{places: buildyard/forecast}")
            self.lane("align buildyard --yes")
            found = self.drift(code=0)[0]
            self.assertEqual([d["held"]["role"] for d in found["outside"]], ["release-publisher"])
            self.assertIn("holds what the estate manages", self.lane("align buildyard --dry-run").out)
            self.assertIn("outside of what the estate manages: binding: release-publisher", self.lane("drift buildyard").out)
            self.manage("")
            self.assertEqual([d["held"]["role"] for d in self.drift()[0]["differences"]], ["release-publisher"])

    def test_what_stands_outside_and_reaches_in_is_no_match(self) -> None:
        with self.standing_in("buildyard"):
            self.lane("align buildyard --yes")
            self.lane("meddle buildyard grant tamsin.quill pipeline-author buildyard")
            self.manage("{places: buildyard/night-shift}")
            found = self.drift()[0]
            self.assertEqual(found["differences"], [])
            self.assertEqual([who.split(" at ")[0] for who in found["reached"]], ["tamsin.quill"])
            self.assertIn("gives something else than is declared to tamsin.quill", self.lane("align buildyard --dry-run", 1).out)
            self.assertIn("kept      buildyard", self.run_lane("check").out)
            self.manage("{accounts: user ro*}")
            self.assertEqual(self.drift(code=0)[0]["reached"], [])

    def test_what_manages_names_follows_a_place_that_moves(self) -> None:
        self.manage("{places: [buildyard/release, buildyard/forecast/nightly]}")
        self.lane("scope move buildyard/forecast/nightly buildyard/tools --yes --even-so x")
        text = (self.folder / "platforms" / "buildyard.yaml").read_text()
        self.assertIn("manages: {places: [buildyard/release, buildyard/tools/nightly]}", text)

    def test_what_manages_names_has_to_be_there(self) -> None:
        for said, told in (
            ("{places: buildyard/forcast}", "did you mean buildyard/forecast"),
            ("{roles: x-*}", "no role of buildyard matches 'x-*'"),
            ("{accounts: group tool-keeper}", "did you mean tool-keepers"),
            ("{accounts: tam*}", "is no account"),
            ("{accounts: user tam.quill}", "the directory has no user 'tam.quill'"),
            ("{accounts: user x*x}", "the directory has no user like 'x*x'"),
            ("{places: []}", "names nothing"),
        ):
            with self.subTest(said):
                self.manage(said)
                ran = self.run_lane("check")
                self.assertIn(told, ran.out + ran.err)
                self.assertNotEqual(ran.code, 0)

    def test_what_could_not_be_read_is_never_a_match(self) -> None:
        with self.standing_in("buildyard"):
            self.lane("align buildyard --yes")
            ran = self.run_lane("drift", "buildyard", "fieldnet")
            self.assertEqual(ran.code, 3)
            self.assertIn("matches", ran.out)
            self.assertIn("error:", ran.err)
        self.assertEqual(self.run_lane("drift", "buildyard").code, 3)
        for words, told in (
            (["buildyard", "--since", "2020-01-01"], "there is no reading '2020-01-01' of buildyard"),
            (["buildyard", "--since", "../../x"], "there is no reading '../../x'"),
            (["buildyrd"], "did you mean buildyard"),
            (["--adopt"], "--adopt is for one platform"),
        ):
            ran = self.run_lane("drift", *words)
            self.assertEqual((ran.code, told in ran.err), (2, True), ran.err)


class ReadingsTest(EstateTest):
    def test_the_newest_stay_a_like_one_is_kept_once_and_a_damaged_one_is_told(self) -> None:
        for n in range(readings.MOST + 3):
            readings.keep(self.folder, "p", Reading(str(n), {"people": {}}), NOW)
        known = readings.names(self.folder, "p")
        self.assertEqual(len(known), readings.MOST)
        self.assertEqual(readings.open_reading(self.folder, "p", known[-1]).revision, str(readings.MOST + 2))
        self.assertEqual(readings.keep(self.folder, "p", Reading(str(readings.MOST + 2), {"people": {}}), NOW), known[-1])
        self.assertEqual(readings.open_reading(self.folder, "p", known[-1][:10]).revision, str(readings.MOST + 2))
        with self.assertRaises(UsageError):
            readings.open_reading(self.folder, "p", "1999-01-01")
        path = Path(self.folder / "readings" / "p" / f"{known[-1]}.json")
        for content in ("", "{}", "[" * 3000, json.dumps({"revision": 3})):
            path.write_text(content)
            with self.assertRaisesRegex(Exception, "cannot be read"):
                readings.open_reading(self.folder, "p", known[-1])


class MeaningTest(TestCase):
    @settings(max_examples=25, deadline=None, suppress_health_check=list(HealthCheck))
    @given(estates(), estates())
    def test_all_differences_together_mean_what_aligning_would_do_the_other_way_round(self, estate: Estate, other: Estate) -> None:
        index = EstateIndex(estate)
        held = Reading("1", declared_parts(EstateIndex(other), "p", NOW).parts)
        found = drift(index, "p", held, NOW)
        planned = plan(index, "p", held, NOW)
        self.assertEqual({(d.step.part, d.step.name) for d in found.differences}, {(s.part, s.name) for s in planned.steps})
        if planned.steps:
            same_people = {u: v.enabled for u, v in estate.directory.users.items()}
            if same_people == {u: v.enabled for u, v in other.directory.users.items()}:
                self.assertEqual((found.all.less, found.all.more), (planned.effect.gained, planned.effect.lost))
        kinds = {"add": DifferenceKind.MISSING, "remove": DifferenceKind.ADDED, "change": DifferenceKind.CHANGED}
        for d in found.differences:
            self.assertEqual({kinds[s.verb] for s in planned.steps if (s.part, s.name) == (d.step.part, d.step.name)}, {d.kind})


class ManagedTest(TestCase):
    @settings(max_examples=40, deadline=None, suppress_health_check=list(HealthCheck))
    @given(estates(), estates(), strategies.data())
    def test_what_is_outside_can_do_after_aligning_what_it_could_and_a_match_inside_is_one(
        self, estate: Estate, other: Estate, data: strategies.DataObject
    ) -> None:
        """Cell by cell, person by person, by the judge alone rather than by what splits the steps."""
        platform = estate.platforms["p"]
        places = tuple(data.draw(strategies.lists(strategies.sampled_from(sorted(platform.scopes)), max_size=2)))
        logins = data.draw(strategies.lists(strategies.sampled_from(sorted(estate.directory.users)), max_size=2))
        accounts = tuple(f"user {login}" for login in logins)
        if platform.habits.decides is Decides.LAST_MATCH or not (places or accounts):
            return
        managed = Managed(places, (), accounts, platform.source)
        index = EstateIndex(replace(estate, platforms={**estate.platforms, "p": replace(platform, manages=managed)}))
        held = Reading("1", declared_parts(EstateIndex(other), "p", NOW).parts)
        planned = plan(index, "p", held, NOW)
        after = held.changed((s.part, s.name, s.after) for s in planned.steps)
        found = drift(index, "p", after, NOW)
        self.assertEqual((found.differences, plan(index, "p", after, NOW).steps), ((), ()), "nothing is left to do")
        wanted = Reading("2", declared_parts(index, "p", NOW).parts)
        was, now, meant = (EstateIndex(as_read(index, "p", some)) for some in (held, after, wanted))
        covered = {inner for place in places for inner in index.platform("p").coverage.covered(place)}
        for login in (*index.estate.directory.users, ANONYMOUS_NAME):
            for place in platform.scopes:
                inside = (not places or place in covered) and (not accounts or login in logins)
                if not inside and not planned.harmed:
                    self.assertEqual(may(was, login, place), may(now, login, place), (login, place, planned.steps))
                if inside and found.clean and not planned.by_hand:
                    self.assertEqual(may(now, login, place), may(meant, login, place), (login, place, found.outside))


def may(index: EstateIndex, login: str, place: str) -> list[set[str]]:
    """What somebody may do somewhere, in each of some circumstances."""
    users = index.estate.directory.users
    somebody = person(index, login, "p", NOW) if login in users or login == ANONYMOUS_NAME else NOBODY
    judges = [Judge(index.platform("p"), somebody, asked_in(facts), index.estate.time_zone) for facts in FACTS[::5]]
    return [{action for action, some in judging.at(place).items() if some} for judging in judges]


class TakingBackTest(EstateTest):
    forked = True

    def setUp(self) -> None:
        super().setUp()
        self.saltmarsh()

    def test_a_run_is_taken_back_as_a_plan_of_its_own_and_not_what_changed_since(self) -> None:
        with self.standing_in("buildyard"):
            self.lane("align buildyard --yes")
            roles = self.folder / "roles" / "buildyard.yaml"
            before = roles.read_text()
            self.lane("withdraw pipeline-watcher --from svc-nightly --at buildyard --yes --even-so x")
            self.lane("align buildyard --yes")
            self.assertEqual(self.run_lane("ask", "svc-nightly", "see-pipeline", "buildyard").code, 1)
            shown = self.lane("align buildyard --undo --dry-run", 1)
            self.assertIn("add     binding: pipeline-watcher to user svc-nightly at buildyard", shown.out)
            self.assertRegex(shown.out, r"for people: \d+ cells? gained, 0 lost")
            self.assertIn("holds again what it held before", self.lane("align buildyard --undo --yes").err)
            means = self.run_lane("drift", "buildyard", "--format", "json").json[0]["differences"]
            self.assertEqual([(d["difference"], d["means"]["named"]) for d in means], [("added", ["svc-nightly"])])
            runs = list(dict.fromkeys(json.loads(line)["run"] for line in (self.folder / "journal" / "buildyard.jsonl").read_text().splitlines()))
            self.lane(f"align buildyard --undo {runs[-1]} --yes")
            self.assertIn("matches", self.lane("drift buildyard").out)
            self.assertIn("the journal has no run 'nowhere'", self.run_lane("align", "buildyard", "--undo", "nowhere").err)
            self.assertEqual(roles.read_text(), before)

    def test_nobody_is_locked_out_of_a_platform(self) -> None:
        with self.standing_in("buildyard"):
            self.lane("align buildyard --yes")
            path = self.folder / "bindings" / "builds.yaml"
            text = path.read_text()
            self.assertIn("yard-manager", text)
            path.write_text(text.replace("give: yard-manager", "give: pipeline-watcher"))
            held = self.lane("drift buildyard", 1).out
            self.assertIn("manage-folder", held)
            ran = self.run_lane("align", "buildyard", "--yes", "--acting-as", "wim.anker")
            self.assertNotEqual(ran.code, 0)
            self.assertRegex(ran.err, "nobody would be left who administers buildyard|you, wim.anker, would administer less")
            self.assertEqual(self.lane("drift buildyard", 1).out, held, "nothing was changed")
            self.assertEqual(self.run_lane("align", "buildyard", "--yes", "--even-so", "The yard closes.").code, 0)
            self.assertIn("matches", self.lane("drift buildyard").out)
