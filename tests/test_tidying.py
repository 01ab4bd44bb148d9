"""Taking out what changes nothing, in the files: on drawn lines, on drawn estates, on the sample; and fixes likewise."""

from __future__ import annotations

import json
from datetime import UTC, datetime
from typing import Any

from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from justlane.directories.interface import read_people
from justlane.engine.changes.comparison import Side, compare
from justlane.engine.decision.judge import Question
from justlane.engine.facts.index import EstateIndex
from justlane.engine.redundancy.fewest import fewest
from justlane.engine.redundancy.parts import parts_of
from justlane.files.editing.carried_out import carry_out
from justlane.files.editing.draft import Draft
from justlane.files.opening.load import load
from justlane.model.edits import Edit, Publish, Unpublish, Withdraw
from justlane.model.estate import Estate
from justlane.rules.interface import findings
from tests.drawing import estates
from tests.support import EstateTest
from tests.test_rules import FILES, PEOPLE
from tests.writing import made_sound, written

NOW = datetime.now(UTC)


def some(words: list[str]) -> st.SearchStrategy[list[str]]:
    return st.lists(st.sampled_from(words), min_size=1, max_size=2, unique=True)


lines = st.lists(
    st.fixed_dictionaries(
        {
            "deny": st.integers(0, 4).map(lambda n: n == 0),
            "roles": some(["watcher", "mechanic"]),
            "to": some(["group staff", "group mechanics", "user ada.brook", "group everyone", "authenticated"]),
            "at": some(["hall", "hall/east", "hall/west", "hall/**", "hall/east/pump-1"]),
            "when": st.sampled_from([None, None, {"multi-factor": "yes"}]),
        }
    ),
    min_size=1,
    max_size=5,
)


def in_yaml(drawn: list[dict[str, Any]]) -> str:
    found = ["bindings:"]
    for line in drawn:
        said = {"deny" if line["deny"] else "give": line["roles"], "to": line["to"], "at": line["at"], "because": "drawn"}
        said |= {"when": line["when"]} if line["when"] else {}
        found += [f"  # the {len(found)}th", f"  - {json.dumps(said)}"]
    return "\n".join(found) + "\n"


class TidyTest(EstateTest):
    forked = True

    def read(self) -> EstateIndex:
        loaded = load(self.folder, read_people)
        assert loaded.estate is not None, loaded.findings
        return loaded.ready

    def carried(self, index: EstateIndex, edits: list[Edit]) -> None:
        draft = Draft(self.folder)
        carry_out(draft, index, edits)
        for change in draft.changes:
            (self.folder / change.file).write_bytes(change.after)

    def same(self, before: EstateIndex, after: EstateIndex) -> None:
        found = compare(Side("before", before), Side("after", after), Question(NOW))
        self.assertEqual(found.groups, ())

    @settings(max_examples=40, deadline=None, suppress_health_check=list(HealthCheck))
    @given(lines, st.sampled_from(["deny-wins", "last-match", "nearest"]))
    def test_lines_with_lists_are_split_only_as_needed_and_nothing_changes(self, drawn: list[dict[str, Any]], decides: str) -> None:
        platform = FILES["hall.yaml"].replace("decides: deny-wins", f"decides: {decides}")
        text = platform[: platform.index("bindings:")] + in_yaml(drawn)
        self.write({"estate.yaml": FILES["estate.yaml"], "people.ldif": PEOPLE, "hall.yaml": text})
        before = self.read()
        going = fewest(before, "hall", Question(NOW)).going
        self.carried(before, [Withdraw(part.bindings) for part in going])
        after = self.read()
        self.same(before, after)
        self.assertEqual(fewest(after, "hall", Question(NOW)).going, ())
        parts = [len(parts_of(index.platform("hall").bindings)) for index in (before, after)]
        self.assertEqual(parts[0] - len(going), parts[1], "nothing else went")

    @settings(max_examples=25, deadline=None, suppress_health_check=list(HealthCheck))
    @given(estates())
    def test_what_check_fixes_on_drawn_estates_changes_nothing_but_what_it_says(self, estate: Estate) -> None:
        self.write(written(made_sound(estate)))
        before = self.read()
        fixes = [edit for flaw in findings(before, NOW).flaws for edit in flaw.fix]
        self.carried(before, fixes)
        after = self.read()
        self.same(before, after)

    def test_what_is_one_thing_to_take_out_is_judged_as_one(self) -> None:
        hall, yard = (
            f"platform: {name}\nfor: x.\nhabits: {{decides: deny-wins}}\nactions: {{see: {{}}, start: {{}}}}\nscopes: {{east: wing}}\n"
            "roles: {starter: {for: x., allows: start}, seer: {for: x., allows: see}}\n"
            for name in ("hall", "yard")
        )
        bundles = "bundles: {kit: {for: x., holds: [starter at hall/east, seer at yard/east]}}\n"
        deny = "  - {deny: starter, to: %s, at: %s, because: x.}\n"
        ldif = "".join(f"dn: uid={p},dc=s\nobjectClass: inetOrgPerson\nuid: {p}\ncn: {p}\n\n" for p in ("eva", "ola"))
        ldif += "dn: cn=crew,dc=s\nobjectClass: groupOfNames\ncn: crew\ndescription: x.\nmember: uid=eva,dc=s\n"
        for lines, can_go in (
            ("  - {give: bundle kit, to: user eva, because: x.}\n" + deny % ("user eva", "hall"), 0),
            (
                "  - {give: starter, to: user eva, at: hall, because: x.}\n"
                + deny % ("user eva", "hall")
                + deny % ("group crew", "hall/east")
                + deny % ("group crew", "hall"),
                2,
            ),
        ):
            self.write({
                "estate.yaml": "estate: S\nfor: x.\ntime zone: UTC\ndirectories: {office: {ldif: people.ldif}}\ninclude: [hall.yaml, yard.yaml, given.yaml]\n",
                "hall.yaml": hall, "yard.yaml": yard, "people.ldif": ldif, "given.yaml": bundles + "bindings:\n" + lines,
            })  # fmt: skip
            before = self.read()
            for words in (("check", "--fix", "--yes"), ("tidy", "--yes")):
                ran = self.run_lane(*words)
                self.assertNotEqual(ran.code, 2, ran.err)
                self.same(before, self.read())
            left = len(parts_of(b for name in ("hall", "yard") for b in self.read().platform(name).bindings))
            self.assertEqual(len(parts_of(b for name in ("hall", "yard") for b in before.platform(name).bindings)) - left >= can_go, True, lines)
            self.assertTrue(can_go or left == 2, "the bundle and the deny")

    def test_the_sample_is_tidied_and_put_back(self) -> None:
        self.saltmarsh()
        files = {path: path.read_bytes() for path in self.folder.rglob("*.yaml")}
        shown = self.run_lane("tidy", "--dry-run", "--format", "json")
        self.assertEqual((shown.code, shown.json["effect"]["people"]), (1, 0))
        self.assertEqual({path: path.read_bytes() for path in files}, files)
        ran = self.run_lane("tidy", "--yes", "--because", "Nobody needs them.")
        self.assertEqual(ran.code, 0, ran.err)
        self.assertIn("nobody gains or loses anything", ran.out)
        self.assertIn("planboard: none of 10 lines can go", ran.err)
        self.assertIn("none of the others can go any more", ran.err)
        again = self.run_lane("tidy", "planboard", "quayside")
        self.assertEqual(again.code, 0, again.out + again.err)
        self.assertEqual(self.run_lane("verify").code, 0)
        self.assertEqual(self.run_lane("undo", "--yes").code, 0)
        self.assertEqual({path: path.read_bytes() for path in files}, files)
        self.assertIn("did you mean fieldnet", self.run_lane("tidy", "fieldnt").err)

    def test_edits_of_roles_and_publications_are_carried_out_as_values(self) -> None:
        self.saltmarsh()
        index = self.read()
        group, scope = "auditors", "planboard/stations"
        self.carried(index, [Publish(group, scope)])
        published = self.read()
        self.assertTrue(published.platform("planboard").is_published(group, scope))
        publications = [p for p in published.estate.platforms["planboard"].publications if (p.group, p.scope) == (group, scope)]
        if publications:
            self.carried(published, [Unpublish(group, scope)])
            self.same(index, self.read())

    def test_a_fix_of_something_that_speaks_against_it_is_refused(self) -> None:
        files = dict(FILES)
        files["estate.yaml"] += "expectations:\n  - {user: ada.brook, may: start-pump, at: hall/east/pump-1}\n"
        line = "  - {give: mechanic, to: user ada.brook, at: hall/east, because: x, until: 2020-01-01}\n"
        self.write({**files, "people.ldif": PEOPLE, "hall.yaml": files["hall.yaml"] + line})
        ran = self.run_lane("check", "--only", "past-its-end", "--fix", "--yes")
        self.assertEqual(ran.code, 0, ran.err)
        self.assertNotIn("2020-01-01", (self.folder / "hall.yaml").read_text())
        ran = self.run_lane("check", "--only", "past-its-end", "--fix", "--yes")
        self.assertIn("nothing here can be mended by an edit", ran.err)
        ran = self.run_lane("check", "--fix", "--format", "sarif")
        self.assertEqual((ran.code, "its effect cannot be shown as sarif" in ran.err or "nothing here" in ran.err), (ran.code, True))
        self.write({"hall.yaml": files["hall.yaml"].replace("role", "rolle")})
        self.assertEqual(self.run_lane("check", "--fix", "--yes").code, 2)
