"""A platform without an interface: steps by hand, an export, a form of what to try."""

import csv
import io
import json
import re
import shutil
import unittest

from benchmarks.grown import write

from tests.support import EstateTest

REACHED = """
reached by:
  connector: sheet
  file: exports/hall.csv
  columns: {group: Team, user: Person, role: Right, place: Where}
"""
EXPORT = "Team,Person,Right,Where\nmechanics,,mechanic,east\nmechanics,,mechanic,pumphall/diesel\n,ben.ferry,watcher,west\n"


class SheetTest(EstateTest):
    forked = True

    def setUp(self) -> None:
        super().setUp()
        self.pumphall(pumphall=("\nactions:", REACHED + "\nactions:"))

    def export(self, text: str) -> None:
        self.write({"exports/hall.csv": text})

    def tick(self, old: str, new: str) -> None:
        path = self.folder / "sheets" / "pumphall.md"
        text = path.read_text()
        self.assertIn(old, text)
        path.write_text(text.replace(old, new, 1))

    def journal(self) -> list[str]:
        return [json.loads(line)["event"] for line in (self.folder / "journal" / "pumphall.jsonl").read_text().splitlines()]

    def test_steps_are_handed_out_ticked_and_taken_up_again(self) -> None:
        self.assertIn("export what pumphall holds into exports/hall.csv", self.lane("align pumphall", 3).err)
        self.export(EXPORT)
        self.assertIn("watcher to group staff at pumphall", self.lane("align pumphall --dry-run", 1).out)
        self.assertFalse((self.folder / "sheets").exists())
        refused = self.lane("align pumphall --yes --because rounds", 2).err
        self.assertRegex(" ".join(refused.split()), "never aligned, and 1 thing on it that nobody declared would go: watcher to user ben.ferry")
        self.assertFalse((self.folder / "sheets").exists())
        ran = self.lane("align pumphall --yes --remove-undeclared --because rounds", 1)
        self.assertIn("2 steps to carry out by hand: sheets/pumphall.md", ran.err)
        sheet = (self.folder / "sheets" / "pumphall.md").read_text()
        self.assertRegex(
            sheet,
            r"(?s)## `pumphall`\n\n- \[ \] 1\. Give the role `watcher` to `group staff`.*Check: .*Asked for by pumphall.yaml:\d+.*## `pumphall/west`\n\n- \[ \] 2\. Take the role `watcher` from `user ben.ferry`",
        )
        self.tick("- [ ] 1.", "- [x] 1.")
        ran = self.lane("align pumphall --yes", 1)
        self.assertIn("1 step ticked, and not in the export yet", ran.err)
        self.assertIn("- [x] 1.", (self.folder / "sheets" / "pumphall.md").read_text(), "a tick is not lost")
        self.export(EXPORT.replace(",ben.ferry,watcher,west\n", ""))
        ran = self.lane("align pumphall --yes", 1)
        self.assertIn("1 step of the last sheet came about, as the export shows", ran.err)
        rows = list(csv.DictReader(io.StringIO((self.folder / "sheets" / "pumphall.csv").read_text())))
        self.assertEqual([(r["place"], r["done"]) for r in rows], [("pumphall", "yes")])
        self.export(EXPORT.replace(",ben.ferry,watcher,west", "staff,,watcher,"))
        ran = self.lane("align pumphall --yes")
        self.assertIn("1 step of the last sheet came about", ran.err)
        self.assertEqual(self.journal()[-2:], ["done", "finished"])
        self.assertEqual(self.lane("align pumphall").err, "")
        self.export(EXPORT)
        drift = self.lane("drift pumphall --format json", 1).json[0]["differences"]
        self.assertEqual({d["difference"] for d in drift}, {"added", "missing"})
        self.lane("drift pumphall --adopt --yes")
        self.lane("drift pumphall")
        self.assertIn("to: user ben.ferry", (self.folder / "pumphall.yaml").read_text())

    def test_a_form_says_who_is_to_try_what_and_is_read_back(self) -> None:
        self.export(EXPORT)
        ran = self.lane("probe pumphall --format json", 1)
        waiting = ran.json["unanswered"]
        self.assertIn(f"{waiting} trials without an answer: fill in `happened` in sheets/pumphall-trials.csv", ran.err)
        self.assertEqual((ran.json["tried"], ran.json["differences"]), (0, []))
        form = self.folder / "sheets" / "pumphall-trials.csv"
        rows = list(csv.DictReader(io.StringIO(form.read_text())))
        self.assertEqual(len(rows), waiting)

        def fill(wrong: int) -> None:
            for number, row in enumerate(rows):
                may = self.run_lane("ask", row["who"], row["try"], row["at"], "--format", "json").json["answer"] == "yes"
                row["happened"] = "yes" if may ^ (number == wrong) else "No"
            out = io.StringIO()
            writer = csv.DictWriter(out, list(rows[0]))
            writer.writeheader()
            writer.writerows(rows)
            form.write_text(out.getvalue())

        fill(-1)
        self.assertIn("proved", self.lane("probe pumphall").out)
        fill(0)
        found = self.lane("probe pumphall --format json", 1).json["differences"]
        self.assertEqual([(d["user"], d["action"], d["scope"], d["says"]) for d in found], [(rows[0]["who"], rows[0]["try"], rows[0]["at"], None)])
        form.write_text(form.read_text().replace(",no,", ",perhaps,", 1))
        self.assertRegex(self.lane("probe pumphall", 3).err, r"sheets/pumphall-trials.csv:\d+: found 'perhaps' under `happened`")

    def test_an_export_that_makes_no_sense_says_where(self) -> None:
        for text, said in (
            ("Team,Person,Rihgt,Where\na,,b,c\n", "exports/hall.csv:2: there is no column 'Right'.*did you mean Rihgt"),
            ("Team,Person,Right,Where\n\na,b,c,d\n", "exports/hall.csv:3: found 2 principals"),
            ('[{"Team": 1', "it is no JSON list of objects"), ('[{"Team": "staff"}]', "object 1: there is no column 'Person'"),
            (b"\xff\xfe".decode("latin-1"), "no column|UTF-8|nothing|differs"),
        ):  # fmt: skip
            self.export(text)
            ran = self.run_lane("align", "pumphall", "--dry-run")
            self.assertIn(ran.code, (1, 3))
            self.assertRegex(re.sub(r"\s+", " ", ran.err + ran.out), said)

    def test_a_json_export_means_the_same(self) -> None:
        self.pumphall(pumphall=("\nactions:", REACHED.replace("hall.csv", "hall.json") + "\nactions:"))
        rows = [{"Team": "staff", "Person": None, "Right": "watcher", "Where": ""}]
        rows += [{"Team": "mechanics", "Person": "", "Right": "mechanic", "Where": w} for w in ("east", "/diesel/")]
        self.write({"exports/hall.json": json.dumps(rows)})
        self.lane("align pumphall")


class GrownTest(EstateTest):
    """A platform that has grown, from its export alone to a few lines that groups carry."""

    forked = True

    def setUp(self) -> None:
        super().setUp()
        self.grown = write(self.folder, 60, 5)
        lines = re.findall(r"give: (\S+), to: user (\S+), at: (\S+),", (self.folder / "bindings.yaml").read_text())
        self.rows = ["Right,Person,Where", *(f"{role},{login},{at}" for role, login, at in lines)]
        (self.folder / "bindings.yaml").unlink()
        self.whole = (self.folder / "board.yaml").read_text()
        estate = self.folder / "estate.yaml"
        estate.write_text(estate.read_text().replace(", bindings.yaml", ""))
        self.reached = "reached by: {connector: sheet, file: export.csv, columns: {user: Person, role: Right, place: Where}}\n"

    def export(self, *more: str) -> None:
        self.write({"export.csv": "\n".join([*self.rows, *more]) + "\n"})

    def noted(self) -> dict[str, list[str]]:
        found = json.loads(self.lane("survey board --format json").out)
        return {one["kind"]: one["items"] for one in found["noted"]}

    def test_it_is_looked_at_with_nothing_but_the_people_and_where_its_export_lies(self) -> None:
        self.write({"board.yaml": f"platform: board\nfor: Work.\n{self.reached}"})
        self.export("Watcher,zz9,area-000", "watcher,p00001,", "watcher,p00001,area-000")
        self.assertIn("does not say how it decides", self.lane("check", 1).out)
        found = json.loads(self.lane("survey board --format json").out)
        names = {row.split(",")[1] for row in self.rows[1:]} | {"zz9", "p00001"}
        self.assertEqual((found["accounts"], found["to_groups"], found["groups"]), (len(names), 0, 0))
        self.assertEqual(found["grants"], len({*self.rows[1:], "Watcher,zz9,area-000", "watcher,p00001,board", "watcher,p00001,board/area-000"}))
        noted = self.noted()
        self.assertEqual(noted["unknown-account"], ["zz9, given once"])
        self.assertEqual(sorted(noted["disabled-account"]), ["leaver-1, given once", "leaver-2, given once"])
        self.assertEqual(noted["spelt-alike"], ["Watcher, watcher"])
        self.assertEqual(noted["whole-platform"], ["user p00001: watcher"])
        self.assertIn("watcher to user p00001 at board/area-000: user p00001 has it at board", noted["given-twice"])
        self.assertEqual(len(noted["not-judged"]), found["grants"], "nothing is known of any role")
        self.assertEqual(self.run_lane("drift", "board").code, 1)
        picture = self.top / "survey.png"
        self.assertIn("written", self.run_lane("survey", "board", "--picture", str(picture)).err)
        self.lane("scope pull board --yes")
        self.assertNotIn("unknown-place", self.noted())
        self.assertIn("nothing new", self.lane("scope pull board").err)

    def test_all_that_is_known_is_taken_over_in_lists_and_put_in_order(self) -> None:
        self.write({"board.yaml": self.whole.replace("actions:\n", f"{self.reached}actions:\n", 1)})
        self.export("watcher,zz9,area-000")
        ran = self.run_lane("drift", "board", "--adopt", "--yes")
        self.assertEqual((ran.code, ran.err.count("not adopted")), (0, 1), ran.err)
        self.assertIn("user zz9 is not known to the estate", ran.err)
        text = (self.folder / "board.yaml").read_text()
        self.assertLess(text.count("- give:"), len(self.rows) // 3)
        ran = self.run_lane("drift", "board")
        self.assertEqual((ran.code, "no user zz9" in ran.out), (1, True), "what is not judged is no match")
        self.export()
        self.assertEqual(self.run_lane("drift", "board").code, 0)
        shutil.copytree(self.folder, self.top / "before")
        self.assertEqual(self.run_lane("regroup", "board", "--take", "all", "--yes").code, 0)
        self.assertEqual(self.run_lane("compare", str(self.top / "before")).code, 0)
        weight = json.loads(self.lane("regroup board --format json").out)["weight"]
        self.assertLessEqual(weight, self.grown.weight)
        self.assertEqual([self.run_lane("undo", "--yes").code for _ in range(2)], [0, 0])
        self.assertNotIn("- give:", (self.folder / "board.yaml").read_text())


if __name__ == "__main__":
    unittest.main()
