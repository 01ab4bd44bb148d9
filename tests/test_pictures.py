"""Pictures and what is beside them: everybody beside everything, charts, each field as it is judged."""

from __future__ import annotations

import csv
import io
import re
import struct
from typing import Any
from xml.etree import ElementTree

import matplotlib.figure  # noqa: F401  # once, for all copies of this process
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from justlane.engine.chart_numbers.in_hands import in_hands
from justlane.engine.chart_numbers.likeness import in_order
from justlane.engine.decision.judge import Question, judge
from justlane.engine.facts.index import EstateIndex
from justlane.engine.surveys.glance import glance
from justlane.engine.surveys.grid import grid_at
from justlane.model.circumstances import Outcome
from justlane.model.estate import Estate
from tests.drawing import NOW, estates
from tests.support import EstateTest

DRAWN = {
    "grid restart-station": "who may restart-station",
    "grid --at fieldnet/north/harbour/nb-07": "who may do what at fieldnet/north/harbour/nb-07",
    "grid --role station-keeper --groups": "somebody in this group alone has station-keeper",
    "glance": "How much of what can be done there",
    "glance fieldnet --groups": "groups, each as somebody in it alone",
    "chart administrators": "Administrators of each platform",
    "chart sensitive": "Sensitive actions",
    "chart roles": "how many of them are needed",
    "chart flow fieldnet": "from groups over roles to places",
    "chart changes": "nothing was kept yet",
}


class PicturesTest(EstateTest):
    forked = True

    def setUp(self) -> None:
        super().setUp()
        self.saltmarsh()

    def test_each_is_drawn_as_png_and_svg_the_same_every_time(self) -> None:
        for command, title in DRAWN.items():
            with self.subTest(command):
                files = [self.top / f"a.{form}" for form in ("png", "svg", "svg")]
                written = []
                for path in files:
                    self.assertEqual(self.run_lane(*command.split(), "--picture", str(path)).code, 0)
                    written.append(path.read_bytes())
                self.assertEqual(struct.unpack(">II", written[0][16:24]), (1280, 800))
                self.assertEqual(written[1], written[2])
                ElementTree.fromstring(written[1])
                self.assertIn(title, re.sub(r"<!-- (.*?) -->", r"\1", written[1].decode()))

    def test_hostile_names_are_drawn_as_they_are(self) -> None:
        path = self.folder / "platforms" / "fieldnet.yaml"
        path.write_text(path.read_text().replace("nb-07:", '"$\\\\frac<x>&é 長い名前":', 1).replace("nb-07", "$\\frac<x>&é 長い名前"))
        files = {p: p.read_text() for p in self.folder.rglob("*.yaml")}
        for p, text in files.items():
            p.write_text(text.replace("fieldnet/north/harbour/nb-07", "'fieldnet/north/harbour/$\\frac<x>&é 長い名前'"))
        ran = self.run_lane("grid", "restart-station", "fieldnet/north", "--picture", str(self.top / "x.png"))
        self.assertEqual(ran.code, 0, ran.err)
        self.assertTrue((self.top / "x.png").read_bytes().startswith(b"\x89PNG"))

    def test_a_wrong_ending_and_an_unwritable_place_are_told(self) -> None:
        ran = self.run_lane("glance", "--picture", str(self.top / "x.gif"))
        self.assertEqual((ran.code, "ends in '.gif'" in ran.err and ".png or .svg" in ran.err), (2, True))
        (self.top / "file").write_text("")
        ran = self.run_lane("glance", "--picture", str(self.top / "file" / "x.png"))
        self.assertNotEqual(ran.code, 0)
        self.assertIn("cannot be written", ran.err)
        self.assertEqual(self.run_lane("grid").code, 2)
        self.assertEqual(self.run_lane("grid", "read-log", "--at", "fieldnet").code, 2)

    def test_charts_count(self) -> None:
        rows = {row["action"]: row for row in self.run_lane("chart", "sensitive", "--format", "json").json["rows"]}
        for action, scope in (("publish-release", "buildyard"), ("manage-crew", "fieldnet"), ("delete-series", "siltstore")):
            held = {who["user"] for at in self.places(scope) for who in self.holders(action, at)}
            self.assertEqual(rows[action]["people"], len(held), action)
        flows = self.run_lane("chart", "flow", "fieldnet", "--format", "json").json["rows"]
        self.assertIn({"group": "group northern-crew", "role": "station-keeper", "scope": "fieldnet/north", "people": 6}, flows)
        self.assertEqual(self.run_lane("withdraw", "log-reader", "--from", "group auditors", "--at", "fieldnet", "--yes").code, 0)
        changes = self.run_lane("chart", "changes", "--format", "json").json["rows"]
        self.assertEqual([(row["source"], row["people"], row["gained"]) for row in changes], [("edit", 2, 0)])
        self.assertGreater(changes[0]["lost"], 0)

    def places(self, platform: str) -> list[str]:
        index = self.index()
        return list(index.estate.platforms[platform].scopes)

    def holders(self, action: str, scope: str) -> Any:
        return self.run_lane("holders", action, scope, "--format", "json").json.get("holders", [])

    def test_at_a_glance_csv_has_everybody(self) -> None:
        rows = list(csv.DictReader(io.StringIO(self.run_lane("glance", "--format", "csv").out)))
        self.assertEqual({row["planboard"] for row in rows}, {"none", "some", "full"})
        self.assertEqual([row["planboard"] for row in rows if row["user"] in ("wim.anker", "odd.pilcher")], ["none", "full"])

    @settings(max_examples=25, deadline=None, suppress_health_check=list(HealthCheck))
    @given(estates())
    def test_each_field_is_what_is_judged_cell_by_cell(self, estate: Estate) -> None:
        index, asked = EstateIndex(estate), Question(NOW)
        prepared = index.platform("p")
        place = list(prepared.platform.scopes)[-1]
        allowed = {
            (login, at): judge(index, login, at, asked).at(at)
            for login, user in {**estate.directory.users, "anonymous": None}.items()
            for at in prepared.platform.scopes
            if user is None or user.enabled
        }
        full = {login: judge(index, login, "p", asked).space.full for login, _ in allowed}
        seen = glance(index, ["p"], asked)
        for row in seen.rows:
            for login in row.names:
                cells = sum(len(some) for (who, _), some in allowed.items() if who == login)
                self.assertEqual(row.fields[0].cells, cells)
        for across in grid_at(index, place, asked).rows:
            for login in across.names:
                said = {
                    action: outcome for names, outcome in zip(grid_at(index, place, asked).columns, across.outcomes, strict=True) for action in names
                }
                real = {a: Outcome.YES if some == full[login] else Outcome.ONLY_IF for a, some in allowed[login, place].items()}
                self.assertEqual({a: o for a, o in said.items() if o is not Outcome.NO}, real)
        hands = {one.action: one for one in in_hands(with_all_sensitive(index), "p", asked)}
        for action, one in hands.items():
            holding = [who for (who, _), some in allowed.items() if action in some]
            self.assertEqual((one.people, one.cells), (len(set(holding)), len(holding)), action)

    @settings(max_examples=50, deadline=None)
    @given(st.lists(st.lists(st.integers(0, 2), min_size=3, max_size=3), max_size=12))
    def test_an_order_has_everything_once_and_what_is_the_same_together(self, vectors: list[list[int]]) -> None:
        order = in_order(vectors, [1] * len(vectors))
        self.assertEqual(sorted(order), list(range(len(vectors))))
        said = [tuple(vectors[n]) for n in order]
        if len(vectors) > 2:
            runs = [one for n, one in enumerate(said) if not n or said[n - 1] != one]
            self.assertEqual(len(runs), len(set(runs)))


def with_all_sensitive(index: EstateIndex) -> EstateIndex:
    """The same estate, every action of which is sensitive."""
    from msgspec.structs import replace

    platform = index.estate.platforms["p"]
    actions = {name: replace(action, sensitive=True) for name, action in platform.actions.items()}
    return EstateIndex(replace(index.estate, platforms={"p": replace(platform, actions=actions)}))
