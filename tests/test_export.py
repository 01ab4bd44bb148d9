"""Everything that is allowed as Parquet files, and the five queries of the page about them."""

import os
import re
from typing import Any

import duckdb
import jsonschema

from justlane.reports.outputs.table import schema_of
from tests.support import EstateTest
from tests.test_formats import BUOY, DOCS, DOCUMENTED, keys

QUERIES = re.findall(r"^(-- .*\n(?:[^`\n]+\n)+)", (DOCS / "export.md").read_text(), re.MULTILINE)


class ExportTest(EstateTest):
    forked = True

    def setUp(self) -> None:
        super().setUp()
        self.saltmarsh()

    def asked(self, about: str) -> list[Any]:
        """What the page's query about something gives."""
        (query,) = [query for query in QUERIES if about in query]
        return duckdb.connect().execute(query.replace("'out/", f"'{self.top}/out/").rstrip().rstrip(";")).fetchall()

    def test_the_five_queries_of_the_page(self) -> None:
        self.assertEqual(len(QUERIES), 5)
        written = self.lane(f"export {self.top}/out --format json").json
        jsonschema.validate(written, schema_of("export"))
        self.assertEqual({*keys(written)} - DOCUMENTED, set())
        tallies = self.lane("tally --format json").json
        counted = {(t["platform"], t["always"], t["sometimes"]) for t in tallies}
        self.assertEqual({(name, int(yes or 0), int(some or 0)) for name, yes, some in self.asked("What `tally` says")}, counted)
        held = self.lane(f"holders restart-station {BUOY} --format json").json["holders"]
        found = self.asked("What `holders` says")
        self.assertEqual({login for login, _ in found}, {h["user"] for h in held})
        self.assertEqual({login for login, when in found if when}, {h["user"] for h in held if h["conditions"]})
        login, cells = self.asked("Who reaches most")[0]
        reached = self.lane(f"reach {login} --format json").json
        sensitive = {
            (name, action)
            for name, action in duckdb.connect()
            .execute(f"SELECT platform, action FROM '{self.top}/out/actions/*/*.parquet' WHERE sensitive")
            .fetchall()
        }
        mine = [(s["scope"], a) for s in scopes(reached["platforms"]) for a in s["actions"] if (s["scope"].split("/")[0], a) in sensitive]
        self.assertEqual(int(cells), len(mine))
        hands = {(name, action): int(people) for name, action, people in self.asked("In how many hands")}
        everybody = {
            line.split(",")[0] for line in self.lane("grid restart-station --format csv").out.splitlines()[1:] if "yes" in line or "only if" in line
        }
        self.assertEqual(hands["fieldnet", "restart-station"], len(everybody))
        nowhere = [address for (address,) in self.asked("Where may nobody")]
        for address in nowhere:
            self.assertEqual(self.lane(f"holders {address} --format json").json["people"], [])
        places = duckdb.connect().execute(f"SELECT count(*) FROM '{self.top}/out/places/*/*.parquet'").fetchone()
        self.assertEqual(places, (sum(t["scopes"] for t in tallies),))

    def test_nothing_is_written_over_and_nothing_half(self) -> None:
        (self.top / "out").mkdir()
        self.assertIn("is there already", self.lane(f"export {self.top}/out", 2).err)
        self.assertEqual(os.listdir(self.top / "out"), [])
        (self.top / "fake").mkdir()
        (self.top / "fake" / "duckdb.py").write_text("raise ImportError")
        said = self.lane(f"export {self.top}/other", 2, PYTHONPATH=f"{self.top}/fake{os.pathsep}{os.environ.get('PYTHONPATH', '')}").err
        self.assertIn("pip install 'justlane[parquet]'", said)
        self.assertFalse((self.top / "other").exists())


def scopes(trees: list[Any]) -> list[Any]:
    return [found for tree in trees for found in (tree, *scopes(tree["inside"]))]
