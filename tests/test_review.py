"""Access reviews: out to the owners, back in, and what is outstanding; workbooks that a stranger may have changed."""

from __future__ import annotations

import csv
import io
import subprocess
import zipfile
from collections.abc import Callable
from pathlib import Path

from openpyxl import load_workbook

from tests.support import EstateTest

Lines = list[list[str]]


class ReviewTest(EstateTest):
    forked = True

    def setUp(self) -> None:
        super().setUp()
        self.saltmarsh()
        self.sent = self.top / "sent"

    def out(self, owner: str, form: str) -> Path:
        ran = self.run_lane("review", "out", str(self.sent), "--owner", owner, "--form", form)
        self.assertEqual(ran.code, 1)
        self.assertIn("nobody answers for ", ran.err)
        return max(self.sent.glob(f"*.{form}"), key=lambda path: path.name)

    def change(self, path: Path, edit: Callable[[Lines], None]) -> None:
        rows = list(csv.reader(io.StringIO(path.read_text("utf-8-sig"), newline="")))
        edit(rows)
        file = io.StringIO()
        csv.writer(file).writerows(rows)
        path.write_text(file.getvalue())

    def back(self, path: Path, *words: str, by: str = "wim.anker"):  # type: ignore[no-untyped-def]
        return self.run_lane("review", "in", str(path), "--by", by, *words)

    def test_a_csv_comes_back_and_removals_become_one_edit(self) -> None:
        path = self.out("wim.anker", "csv")

        def decide(rows: Lines) -> None:
            head = rows[1]
            for row in rows[2:]:
                if row[head.index("role")] == "pipeline-watcher" and row[head.index("given to")] == "user svc-nightly":
                    row[head.index("decision")] = "Remove"
                elif row[head.index("role")] == "pipeline-author":
                    row[head.index("decision")], row[head.index("comment")] = "ask", "=who are they?"
                elif row[head.index("role")] != "path-reader":
                    row[head.index("decision")] = "keep"

        self.change(path, decide)
        shown = self.back(path, "--dry-run")
        self.assertEqual(shown.code, 1)
        self.assertIn("outstanding", shown.err)
        self.assertIn("=who are they?", shown.err)
        self.assertIn("bindings/builds.yaml", shown.out)
        self.assertEqual(self.run_lane("review", "status", "--format", "json").json[0]["keep"], 0)
        ran = self.back(path, "--yes")
        self.assertIn("what is expected would not hold any more: svc-nightly may run-pipeline", ran.err)
        self.assertEqual(len(self.run_lane("review", "status", "--format", "json").json[0]["to_remove"]), 2)
        self.assertEqual(self.back(path, "--yes", "--even-so", "It moves elsewhere.").code, 0)
        said = self.run_lane("review", "status", "--format", "json").json[0]
        self.assertEqual((said["ask"], said["to_remove"], said["answered_by"]), (5, [], ["wim.anker"]))
        self.assertGreater(said["remove"], 0)
        self.assertEqual(len(said["gone"]), said["remove"])
        self.assertTrue(all("path-reader" in one for one in said["outstanding"]))
        self.assertEqual(self.run_lane("ask", "svc-nightly", "see-pipeline", "buildyard").code, 1)
        self.assertIn("Review ", self.run_lane("journal", "show").out)

    def test_a_bundle_goes_once_all_its_owners_say_so_and_a_person_in_a_local_group_is_asked_about(self) -> None:
        for by in ("wim.anker", "imke.vos"):
            self.out(by, "csv")
        sent = {by: next(self.sent.glob(f"*-user-{by.replace('.', '-')}.csv")) for by in ("wim.anker", "imke.vos")}

        def remove(rows: Lines) -> None:
            for row in rows[2:]:
                if row[rows[1].index("role")] == "bundle storm-kit":
                    row[rows[1].index("decision")] = "remove"

        before = (self.folder / "bindings" / "storm.yaml").read_bytes()
        for number, (by, path) in enumerate(sent.items(), 1):
            self.change(path, remove)
            ran = self.back(path, "--yes", "--even-so", "They said so.", by=by)
            self.assertEqual(ran.code, 0, ran.err)
            self.assertEqual("whoever answers there has not removed it" in ran.err, number < len(sent), ran.err)
            self.assertEqual((self.folder / "bindings" / "storm.yaml").read_bytes() == before, number < len(sent))
        self.assertIn("dana.brine", self.run_lane("journal", "show", "--about", "dana.brine").out)
        self.out("thea.groyne", "csv")
        path = next(self.sent.glob("*-user-thea-groyne.csv"))

        def seat(rows: Lines) -> None:
            (row,) = (row for row in rows[2:] if row[rows[1].index("role")] == "member of the local group planners")
            self.assertEqual(row[rows[1].index("given to")], "user imke.vos")
            row[rows[1].index("decision")] = "remove"

        self.change(path, seat)
        ran = self.back(path, "--yes", "--even-so", "They said so.", by="thea.groyne")
        self.assertEqual(ran.code, 0, ran.err)
        self.assertNotIn("user imke.vos", (self.folder / "platforms" / "planboard.yaml").read_text().partition("planners")[2][:200])

    def test_a_workbook_comes_back_too_and_what_changed_since_is_shown(self) -> None:
        path = self.out("thea.groyne", "xlsx")
        book = load_workbook(path)
        sheet = book["review"]
        head = [cell.value for cell in sheet[2]]
        self.assertEqual(str(next(iter(sheet.data_validations.dataValidation)).sqref).split(":")[0], "B3")
        for row in range(3, sheet.max_row + 1):
            self.assertEqual({cell.data_type for cell in sheet[row] if cell.value is not None}, {"s"})
            sheet.cell(row, head.index("decision") + 1).value = "keep"
        book.save(path)
        to = sheet.cell(3, head.index("given to") + 1).value
        role, at = (sheet.cell(3, head.index(name) + 1).value for name in ("role", "at"))
        self.assertEqual(self.run_lane("withdraw", str(role), "--from", str(to), "--at", str(at), "--yes").code, 0)
        ran = self.back(path, "--yes", by="thea.groyne")
        self.assertEqual(ran.code, 0, ran.err)
        self.assertIn("is not there any more", ran.err)
        said = self.run_lane("review", "status").out
        self.assertIn("done", said)
        self.assertIn("gone since", said)

    def test_whatever_was_changed_is_named_and_nothing_is_taken_over(self) -> None:
        path = self.out("wim.anker", "csv")
        before = path.read_text()

        def lose(rows: Lines) -> None:
            del rows[4]

        def add(rows: Lines) -> None:
            rows.append(["00", "keep", "", *rows[3][3:]])

        def repeat(rows: Lines) -> None:
            rows.append(rows[2])

        def alter(rows: Lines) -> None:
            rows[2][rows[1].index("given to")] = "group auditors"

        def misspell(rows: Lines) -> None:
            rows[2][1] = "=keep"

        def behead(rows: Lines) -> None:
            rows[1][0] = "x"

        def rename(rows: Lines) -> None:
            rows[0][1] = "../../estate"

        def unmark(rows: Lines) -> None:
            rows[0][0] = "y"

        for edit, told in (
            (lose, "a row is missing: "),
            (add, "was added: "),
            (repeat, "repeats row 3"),
            (alter, "row 3: the column 'given to' was changed"),
            (misspell, "row 3: found '=keep', expected keep, remove, ask"),
            (behead, "the column 'row' is missing"),
            (rename, "is no name of a review"),
            (unmark, "found no review"),
        ):
            with self.subTest(told):
                path.write_text(before)
                self.change(path, edit)
                ran = self.back(path, "--yes")
                self.assertEqual(ran.code, 2)
                self.assertIn(told, ran.err)
                self.assertEqual(self.run_lane("review", "status", "--format", "json").json[0]["keep"], 0)

    def test_somebody_else_may_not_answer(self) -> None:
        path = self.out("wim.anker", "csv")
        ran = self.back(path, "--yes", by="vik.sorrel")
        self.assertEqual(ran.code, 2 if ran.code == 2 else 1)
        self.assertIn("went to user wim.anker, and vik.sorrel answered", ran.err)
        self.assertEqual(self.back(path, "--yes", "--even-so", "Wim is away.", by="vik.sorrel").code, 0)
        self.assertEqual(self.run_lane("review", "out", str(self.sent), "--owner", "wim.ankr").code, 2)
        self.assertIn("did you mean wim.anker", self.run_lane("review", "out", str(self.sent), "--owner", "wim.ankr").err)

    def test_formulas_are_harmless_on_the_way_out_and_understood_on_the_way_in(self) -> None:
        path = self.folder / "bindings" / "builds.yaml"
        path.write_text(path.read_text().replace("because: ", 'because: "=HYPERLINK(1)" #', 1))
        for form in ("csv", "xlsx"):
            sent = self.out("wim.anker", form)
            if form == "csv":
                self.assertIn("'=HYPERLINK(1)", sent.read_text("utf-8-sig"))
            else:
                with zipfile.ZipFile(sent) as packed:
                    self.assertNotIn(b"<f>", packed.read("xl/worksheets/sheet1.xml"))
            self.assertEqual(self.back(sent, "--yes").code, 0)

    def test_files_that_are_no_review(self) -> None:
        bomb = io.BytesIO()
        with zipfile.ZipFile(bomb, "w", zipfile.ZIP_DEFLATED) as packed:
            packed.writestr("xl/workbook.xml", b"\0" * (600 << 20))
        for content, told in (
            (b"", "found no review"),
            (b"PK\x03\x04rubbish", "cannot be read as a workbook"),
            (b"\xff\xfe\x00", "is not UTF-8"),
            (b"a;b\n1;2\n", "found no review"),
            (bomb.getvalue(), "unpacks to more than"),
        ):
            path = self.top / "x.xlsx"
            path.write_bytes(content)
            ran = self.back(path, "--yes")
            self.assertEqual(ran.code, 2)
            self.assertIn(told, ran.err)
        self.assertEqual(self.back(self.top / "nowhere.csv").code, 2)

    def test_last_changed_comes_from_the_repository_and_runs_nothing_of_it(self) -> None:
        def git(*words: str) -> None:
            who = ["-c", "user.name=Wim Anker", "-c", "user.email=w@saltmarsh.example"]
            subprocess.run(["git", "-C", str(self.folder), *who, *words], check=True, capture_output=True)

        git("init", "-q")
        (self.folder / ".gitattributes").write_text("*.yaml diff=evil filter=evil\n")
        git("add", "-A")
        git("commit", "-qm", "as it was")
        for key in ("diff.evil.textconv", "filter.evil.clean", "filter.evil.smudge", "diff.evil.command"):
            git("config", key, f"touch {self.top}/RAN; cat")
        path = self.folder / "bindings" / "builds.yaml"
        path.write_text("# a line more\n" + path.read_text().replace("to: user svc-nightly", "to: user yara.flint", 1))
        rows = list(csv.reader(io.StringIO(self.out("wim.anker", "csv").read_text("utf-8-sig"), newline="")))
        changed = {row[rows[1].index("last changed")] for row in rows[2:]}
        self.assertTrue(any(one.endswith("by Wim Anker") for one in changed), changed)
        self.assertFalse((self.top / "RAN").exists())
