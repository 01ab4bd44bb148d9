"""What is offered, carried out by its own printed commands: it does what was asked, and all that it said besides."""

from __future__ import annotations

import random
import shlex
import shutil
import subprocess
import sys
import unittest

from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from justlane.engine.changes.comparison import differences
from justlane.engine.decision.judge import Question, may
from justlane.engine.facts.index import EstateIndex
from justlane.engine.offers.together import Offer, WantedCell, suggest
from justlane.model.estate import Decides, Estate
from justlane.reports.answers.offers import command
from tests.drawing import NOW, estates
from tests.support import EstateTest
from tests.writing import made_sound, written

WISHES = (
    ("joost.baan restart-station fieldnet/north/harbour/nb-07", ""),
    ("odd.pilcher see-station fieldnet/north", ""),
    ("bas.kreek close-sprint planboard/stations", ""),
    ("vik.sorrel read-series siltstore/raw", ""),
    ("ruud.bolder write-path sourcebank/models", ""),
    ("arno.veld start-app quayside/payroll", ""),
    ("vik.sorrel calibrate-sensor fieldnet/north/harbour/nb-07", "--take-away"),
    ("finn.aldous restart-station fieldnet/south/bar/sb-11", "--take-away"),
    ("dana.brine run-pipeline buildyard/night-shift", "--take-away"),
)


class OffersTest(EstateTest):
    forked = True

    def carried_out(self, offer: Offer) -> bool:
        """Type the commands of an offer; False if a step of it is made in the directory."""
        commands = [command(step.edit) for step in offer.steps]
        if not all(commands):
            return False
        for one in commands:
            assert one
            words = [word if word != "…" else "As offered." for word in shlex.split(one)[1:]]
            ran = self.run_lane(*words, "--yes", "--even-so", "As offered.")
            self.assertEqual(ran.code, 0, (one, ran.err))
        return True

    def same(self, before: EstateIndex, offer: Offer, need: WantedCell, take_away: bool, question: Question) -> None:
        after = self.index()
        self.assertEqual(may(after, need.user, need.action, need.scope, question), not take_away, offer)
        found = differences((before, after), Question(question.moment, day=question.dated))
        self.assertEqual(tuple(found.totals), (offer.effect.gained, offer.effect.lost), [command(step.edit) for step in offer.steps])

    def test_on_the_sample(self) -> None:
        self.saltmarsh()
        kept = self.top / "kept"
        shutil.copytree(self.folder, kept)
        carried = 0
        for wish, how in WISHES:
            index, question = self.index(), Question(NOW)
            need = WantedCell(*wish.split())
            for offer in suggest(index, [need], question, take_away=bool(how)).offers:
                if self.carried_out(offer):
                    carried += 1
                    self.same(index, offer, need, bool(how), question)
                    shutil.rmtree(self.folder)
                    shutil.copytree(kept, self.folder)
        self.assertGreater(carried, 15)

    @settings(max_examples=20, deadline=None, suppress_health_check=list(HealthCheck))
    @given(st.sampled_from([Decides.ANY_ALLOW, Decides.DENY_WINS]).flatmap(estates), st.integers(0, 10**6))
    def test_on_drawn_estates_where_lines_add_up(self, drawn: Estate, seed: int) -> None:
        self.offered(drawn, seed)

    @settings(max_examples=20, deadline=None, suppress_health_check=list(HealthCheck))
    @given(st.sampled_from([Decides.LAST_MATCH, Decides.NEAREST]).flatmap(estates), st.integers(0, 10**6))
    def test_on_drawn_estates_where_one_line_decides(self, drawn: Estate, seed: int) -> None:
        self.offered(drawn, seed)

    def offered(self, drawn: Estate, seed: int) -> None:
        shutil.rmtree(self.folder)
        self.folder.mkdir()
        self.write(written(made_sound(drawn)))
        index, dice, question = self.index(), random.Random(seed), Question(NOW)
        platform = index.estate.platforms["p"]
        user, action, scope = (dice.choice(list(some)) for some in (index.estate.directory.users, platform.actions, platform.scopes))
        if not index.platform("p").applies(action, scope):
            return
        need = WantedCell(user, action, scope)
        take_away = may(index, user, action, scope, question)
        before = {path: path.read_bytes() for path in self.folder.glob("*.*")}
        for offer in suggest(index, [need], question, take_away=take_away).offers[:3]:
            if self.carried_out(offer):
                self.same(index, offer, need, take_away, question)
            for path, content in before.items():
                path.write_bytes(content)

    def test_a_ceiling_and_whom_it_leaves_out(self) -> None:
        people = "".join(f"dn: uid={p},dc=s\nobjectClass: inetOrgPerson\nuid: {p}\ncn: {p}\n\n" for p in ("eva", "ola"))
        people += "".join(
            f"dn: cn={g},dc=s\nobjectClass: groupOfNames\ncn: {g}\ndescription: x.\nmember: uid={m},dc=s\n\n"
            for g, m in (("crew", "eva"), ("chiefs", "ola"), ("all", "eva\nmember: uid=ola"))
        ).replace("uid=eva\nmember: uid=ola,dc=s", "uid=eva,dc=s\nmember: uid=ola,dc=s")
        self.write({
            "estate.yaml": "estate: S\nfor: x.\ntime zone: UTC\ndirectories: {office: {ldif: people.ldif}}\ninclude: [hall.yaml]\n",
            "people.ldif": people,
            "hall.yaml": "platform: hall\nfor: x.\nhabits: {decides: any-allow}\nactions: {see: {}, start: {}}\nscopes: {east: wing}\n"
            "roles: {starter: {for: x., allows: start}, seer: {for: x., allows: see}}\n"
            "ceilings: [{to: authenticated, never: start, but not to: group chiefs, because: x.}]\n"
            "bindings:\n  - {give: starter, to: group all, at: hall/east, because: x.}\n  - {give: starter, to: group crew, at: hall, because: x.}\n",
        })  # fmt: skip
        misses = self.lane("ask eva start hall/east --format json", 1).json["misses"]
        self.assertEqual([m["edit"]["group"] for m in misses if m["change"] == "join the group that the ceiling leaves out"], ["group chiefs"])
        self.assertIn("join group chiefs, which the ceiling for authenticated leaves out", self.lane("ask eva start hall/east", 1).out)
        self.assertEqual(self.lane("suggest eva start hall/east --take-away --format json").json["offers"], [], "the ceiling does it already")
        offers = self.lane("suggest ola start hall/east --take-away --format json", 1).json["offers"]
        edits = [[e["edit"] for e in o["edits"]] + [e["group"] for e in o["edits"]] for o in offers]
        self.assertIn(["leave", "group chiefs"], edits)

    def test_the_order_is_nobodys_accident(self) -> None:
        self.saltmarsh()
        for line in (
            "suggest joost.baan restart-station fieldnet/north/harbour/nb-07",
            "ask joost.baan restart-station fieldnet/north/harbour/nb-07",
        ):
            said = set()
            for seed in ("0", "1", "4242"):
                environment = {**self.environment, "PYTHONHASHSEED": seed}
                ran = subprocess.run(
                    [sys.executable, "-m", "justlane", *line.split(), "--format", "json"], env=environment, capture_output=True, check=False
                )
                said.add(ran.stdout)
            self.assertEqual(len(said), 1, line)


if __name__ == "__main__":
    unittest.main()
