"""What a person reads: at every width nothing is lost and nothing runs over the edge."""

import re
import unittest
from typing import Any

from justlane.engine.changes.comparison import Side, compare
from justlane.engine.changes.two_people import side_by_side
from justlane.engine.decision.judge import Question
from justlane.engine.offers.suggestions import reply
from justlane.engine.questions.expectations import verify
from justlane.engine.questions.holders import holders
from justlane.engine.questions.reach import reach
from justlane.engine.questions.sight import sight
from justlane.jobs.circumstances import now
from justlane.model.findings import Source
from justlane.reports.interface import present
from justlane.reports.text.lines import line, render
from justlane.reports.text.look import Look
from tests.support import EstateTest

WIDTHS = (40, 60, 80, 100, 125, 200)


def plain(text: str, style: str) -> str:
    return text


def words(text: str) -> list[str]:
    """What is said, without the drawing."""
    return re.findall(r"[^\s├└│─·→]+", text)


class LayoutTest(unittest.TestCase):
    def test_a_line_wraps_between_words_and_keeps_its_source_at_the_edge(self) -> None:
        one = line(("first ", "name"), "and a good many more words after it", source=Source("a/file.yaml", 12, 3), hanging="  ")
        self.assertEqual(render([one], Look(60, plain)), "first and a good many more words after it     a/file.yaml:12\n")
        self.assertEqual(render([one], Look(50, plain)), "first and a good many more words    a/file.yaml:12\n  after it\n")
        self.assertEqual(render([one], Look(30, plain)), "first and a good many more\n  words after it\n  a/file.yaml:12\n")

    def test_a_word_longer_than_the_line_stands_alone(self) -> None:
        self.assertEqual(render([line("x " + "y" * 30)], Look(20, plain)), "x\n" + "y" * 30 + "\n")

    def test_styles_paint_words_and_do_not_move_them(self) -> None:
        one = line(("yes", "yes"), "  it is so", source=Source("f", 1))
        painted = render([one], Look(40, lambda text, style: f"<{style}>{text}</>"))
        self.assertEqual(re.sub(r"<[^>]*>", "", painted), render([one], Look(40, plain)))
        self.assertIn("<dim>f:1</>", painted)


class WidthsTest(EstateTest):
    def test_every_report_says_the_same_at_every_width(self) -> None:
        self.saltmarsh()
        index = self.index()
        asked = Question(now())
        changed = self.folder / "platforms" / "siltstore.yaml"
        changed.write_text(changed.read_text().replace("when: {multi-factor: yes}", "when: {signed in by: [key, card]}"))
        other = self.index()
        results: dict[str, list[Any]] = {
            "Reply": [
                reply(index, user, action, scope, asked)
                for user, action, scope in map(
                    str.split,
                    (
                        "petra.loam see-station fieldnet/south/bar/sb-11",
                        "joost.baan restart-station fieldnet/north/harbour/nb-07",
                        "yara.flint correct-series siltstore/checked/buoys",
                        "svc-nightly run-pipeline buildyard/forecast/nightly",
                        "odd.pilcher see-task planboard",
                        "tamsin.quill read-path sourcebank/models/secrets",
                    ),
                )
            ],
            "Reach": [reach(index, "imke.vos", asked), reach(index, "svc-nightly", asked), reach(index, "hedda.crane", asked)],
            "Sight": [sight(index, "vik.sorrel", asked)],
            "Holders": [holders(index, "see-station", "fieldnet/south/bar", asked)],
            "Verdicts": [verify(other, asked.moment)],
            "Comparison": [compare(Side("before", index), Side("after", other), asked)],
            "SideBySide": [side_by_side(index, "imke.vos", "petra.loam", asked)],
        }
        for kind, some in results.items():
            for result in some:
                said = {width: present(kind, result, "text", Look(width, plain)) for width in WIDTHS}
                for width, text in said.items():
                    with self.subTest(kind=kind, width=width):
                        for row in text.splitlines():
                            alone = len(words(row)) <= 2 or kind == "Holders"
                            self.assertTrue(len(row) <= width or alone, (len(row), row))
                            self.assertEqual(row, row.rstrip())
                        if kind != "Holders":
                            self.assertEqual(sorted(words(text)), sorted(words(said[200])))
                        else:  # a table becomes a list where it does not fit; no cell may lose anything
                            self.assertLessEqual(set(words(said[200])), set(words(text)))
                self.assertTrue(present(kind, result, "json", Look(80, plain)).endswith("\n"))
                self.assertIn("\n", present(kind, result, "csv", Look(80, plain)))
