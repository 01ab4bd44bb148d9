"""What machines read: JSON by the published schemas, which are pinned, and the columns of CSV, for each command."""

import csv
import io
import json
import re
from collections.abc import Iterator
from typing import Any

import jsonschema

from justlane.reports.outputs.table import OUTPUTS, schema_of
from tests.support import DEMO, EstateTest

DOCS = DEMO.parent.parent.parent / "docs"
DOCUMENTED = set(re.findall(r"^\| `(\w+)` \|", (DOCS / "json.md").read_text(), re.MULTILINE))
BUOY = "fieldnet/north/harbour/nb-07"
LINES = [
    # command, its kind of output, code, columns of CSV
    (f"ask imke.vos restart-station {BUOY}", "ask", 0, "user action scope answer when way step sentence file line"),
    ("ask wim.anker delete-series siltstore/raw", "ask", 1, None),
    ("ask odd.pilcher see-task planboard", "ask", 1, None),
    (f"ask joost.baan restart-station {BUOY}", "ask", 1, None),
    ("ask svc-nightly run-pipeline buildyard/forecast/nightly", "ask", 0, None),
    ("reach vik.sorrel", "reach", 0, "scope kind action when role given_to line"),
    ("reach svc-nightly --action *-series", "reach", 0, None),
    ("reach petra.loam fieldnet --see", "reach --see", 0, "scope kind on_the_way_only seen_inside gathered_by"),
    ("holders manage-crew fieldnet/north/harbour", "holders", 0, "user through when role given_at line"),
    ("holders planboard/stations", "holders SCOPE", 0, "user action when role given_to given_at until line"),
    (f"holders *-log {BUOY}", "holders SCOPE", 0, None),
    ("given imke.vos", "given", 0, "role at through when until state line"),
    ("given field-crews planboard/stations", "given", 0, None),
    ("given planners", "given", 0, None),
    ("role show field-manager", "role show", 0, "action state sensitive through line"),
    ("role list --on fieldnet", "role list", 0, "platform role kinds administration people actions sensitive for"),
    ("role compare station-keeper log-reader", "role compare", 1, "action in sensitive"),
    ("role fit northern-crew --on fieldnet", "role fit", 0, "role excess sensitive"),
    ("role administrators", "role administrators", 0, "platform user administration"),
    ("scope tree fieldnet/north", "scope tree", 0, "scope kind given gathers open"),
    (f"suggest joost.baan restart-station {BUOY}", "suggest", 1, "offer edit command excess proven"),
    (f"suggest imke.vos restart-station {BUOY} --take-away", "suggest", 1, None),
    ("give log-reader --to auditors --at fieldnet/south --because x --dry-run", "give", 1, "from change action sensitive people cells"),
    ("withdraw log-reader --from auditors --at fieldnet --dry-run", "give", 1, None),
    ("journal show", "journal show", 0, "number when who system_login yours command reason people gained lost files"),
    ("review status", "review status", 0, None),
    ("journal check", "journal check", 0, None),
    ("grid see-task --groups", "grid", 0, None),
    ("grid --role station-keeper fieldnet/north", "grid", 0, None),
    (f"ask joost.baan restart-station {BUOY} --for-user", "ask --for-user", 1, "user action scope answer role group owner text"),
    ("ask yara.flint correct-series siltstore/checked --for-user", "ask --for-user", 1, None),
    ("grid --at fieldnet/north", "grid", 0, None),
    ("glance", "glance", 0, None),
    ("chart administrators", "chart administrators", 0, "platform full in_part at_most"),
    ("chart sensitive", "chart sensitive", 0, "action platform people cells"),
    ("chart roles --on fieldnet", "chart roles", 0, "role platform people holds needed sensitive"),
    ("chart flow fieldnet", "chart flow", 0, "group role scope people"),
    ("chart changes", "chart changes", 0, "when source name people gained lost"),
    ("check --rules", "check --rules", 0, "rule severity says"),
    ("compare --person imke.vos --with lotte.marsh", "compare --person", 1, "only action scope when role given_to line"),
    ("tally buildyard", "tally", 0, "platform users user_classes scopes scope_classes actions cells always sometimes"),
    ("regroup buildyard", "regroup", 0, "proposal what role to scope line"),
    ("verify", "verify", 0, "expectation holds file line evidence"),
    ("check", "check", 1, "file line column severity rule message hint consequence fixable"),
    ("people pull", "people pull", 0, None),
    ("people show", "people show", 0, None),
    ("people show vik.sorrel", "people show USER", 0, None),
    ("people show contractors", "people show GROUP", 0, None),
    ("people show planners", "people show GROUP", 0, None),
    ("people groups", "people groups", 0, "group people in_all enabled groups for line"),
    ("people find crew", "people find", 0, "is_a called name,_or_what_it_is_for state line"),
    ("trust list", "trust list", 0, "what may_be_done_with_it how authority"),
]


def keys(value: Any) -> Iterator[str]:
    if isinstance(value, list):
        for item in value:
            yield from keys(item)
    elif isinstance(value, dict):
        yield from value
        for key, inner in value.items():
            named = key == "actions" and isinstance(inner, dict)
            yield from keys(list(inner.values()) if named else [] if key in ("before", "after", "held", "declared") else inner)


class FormatsTest(EstateTest):
    forked = True

    def setUp(self) -> None:
        super().setUp()
        self.saltmarsh()

    def json(self, line: str, kind: str, code: int = 0) -> Any:
        found = self.lane(f"{line} --format json", code).json
        jsonschema.validate(found, schema_of(kind))
        self.assertEqual(set(keys(found)) - DOCUMENTED, set(), "docs/json.md lists every key")
        return found

    def rows(self, line: str, code: int = 0) -> list[dict[str, str]]:
        return list(csv.DictReader(io.StringIO(self.lane(f"{line} --format csv", code).out)))

    def test_the_schemas_are_published_and_stay_as_they_are(self) -> None:
        self.lane(f"schema --outputs {self.top}/schemas")
        written = {path.name: json.loads(path.read_text()) for path in (self.top / "schemas").iterdir()}
        for schema in written.values():
            jsonschema.Draft202012Validator.check_schema(schema)
        published = json.loads((DOCS / "outputs.schemas.json").read_text())
        self.assertEqual(written, published, "stable: scripts of others rely on every name")
        self.assertEqual(len(written), len(OUTPUTS))

    def test_each_command_writes_what_its_schema_says(self) -> None:
        for line, kind, code, columns in LINES:
            with self.subTest(line=line):
                self.json(line, kind, code)
                if columns:
                    found = self.rows(line, code)
                    self.assertEqual([c.replace(" ", "_") for c in found[0]] if found else columns.split(), columns.split())

    def test_a_binding_stands_once_and_is_named_by_its_place(self) -> None:
        yes = self.json(f"ask imke.vos restart-station {BUOY}", "ask")
        self.assertEqual((yes["answer"], yes["roles"], yes["misses"]), ("yes", ["field-manager", "station-keeper"], []))
        self.assertEqual([s["kind"] for s in yes["chains"][1]["steps"]], ["member", "given", "allows", "covers"])
        self.assertEqual([yes["bindings"][c["binding"]]["role"] for c in yes["chains"]], ["field-manager", "station-keeper"])
        self.assertEqual({r["way"] for r in self.rows(f"ask imke.vos restart-station {BUOY}")}, {"1", "2"})
        need = self.json("ask svc-nightly run-pipeline buildyard/forecast/nightly", "ask")["needs"]
        self.assertEqual({(n["file"], n["line"]) for n in need}, {("platforms/buildyard.yaml", 9)}, "the habit's own line")
        no = self.json("ask odd.pilcher see-task planboard", "ask", 1)
        self.assertEqual(no["failures"][0]["failing"], "may not sign in")
        miss = self.json(f"ask joost.baan restart-station {BUOY}", "ask", 1)["misses"][0]
        self.assertEqual((miss["edit"]["edit"], miss["effect"]["gained"], miss["effect"]["people"]), ("give", 10, 5))
        self.assertEqual(miss["edit"]["bindings"][0]["scope"], BUOY)

    def test_circumstances_are_the_same_in_all_formats(self) -> None:
        maybe = self.json("ask wim.anker delete-series siltstore/raw", "ask", 1)
        self.assertEqual((maybe["answer"], maybe["chains"][0]["conditions"]), ("only if", maybe["conditions"]))
        (box,) = maybe["conditions"]
        self.assertEqual(box["addresses"], [{"inside": n, "but_not": []} for n in ("192.0.2.0/24", "2001:db8:5a17::/48")])
        self.assertEqual((box["methods"], box["other_methods"], box["multi_factor"]), (["pin"], True, None))
        night = self.json("ask svc-nightly write-series siltstore/raw", "ask", 1)["conditions"][0]
        self.assertEqual(night["times"], [{"days": ["mon", "tue", "wed", "thu", "fri", "sat", "sun"], "hours": ["00:00-06:00"]}])
        said = "from 192.0.2.0/27, 00:00-06:00"
        self.assertEqual(self.rows("ask svc-nightly write-series siltstore/raw", 1)[0]["when"], said)
        self.assertEqual({r["when"] for r in self.rows("reach svc-nightly siltstore")}, {said})
        held = self.rows("holders write-series siltstore/raw")
        self.assertIn(("svc-nightly", said), {(r["user"], r["when"]) for r in held})

    def test_changes(self) -> None:
        self.lane("people pull")
        self.lane("people pull")
        self.json("people changes", "people changes")
        text = (self.folder / "people" / "saltmarsh.ldif").read_text()
        (self.folder / "people" / "saltmarsh.ldif").write_text(text.replace("uid: vik.sorrel\n", "uid: vik.sorrel\nloginDisabled: TRUE\n"))
        self.lane("people pull")
        self.json("people changes", "people changes", 1)
        rows = self.rows("people changes", 1)
        self.assertEqual(list(rows[0]), ["what", "name", "change", "into", "out of", "action", "scope"])
        self.assertEqual((rows[1]["what"], rows[1]["change"]), ("access", "yes → no"))
        self.lane(f"new {self.top}/a")
        self.lane(f"new {self.top}/b")
        field = self.top / "b" / "pumphall.yaml"
        field.write_text(field.read_text().replace("at: [pumphall/east, pumphall/diesel]", "at: pumphall/east"))
        self.json(f"compare {self.top}/a {self.top}/b", "compare", 1)

    def test_align_and_probe(self) -> None:
        with self.standing_in("planboard"):
            self.json("align planboard --dry-run", "align", 1)
            self.assertEqual(list(self.rows("align planboard --dry-run", 1)[0]), ["change", "part", "name", "what", "by_hand", "lines"])
            self.json("connector list", "connector list")
            self.json("connector test sheet --cases 2", "connector test")
            self.json("survey planboard", "survey")
            self.assertEqual(list(self.rows("survey planboard")[0]), ["kind", "what"])
            self.json("drift planboard", "drift", 1)
            self.assertEqual(
                list(self.rows("drift planboard", 1)[0]), ["platform", "difference", "part", "what", "people", "more", "less", "sensitive"]
            )
            self.lane("align planboard --yes")
            self.json("probe planboard", "probe")
            self.lane("meddle planboard two-faced odd.pilcher see-task planboard")
            rows = self.rows("probe planboard --thorough", 1)
            self.assertEqual(list(rows[0].values()), ["odd.pilcher", "see-task", "planboard", "no", "no", "yes"])
            self.assertEqual(rows[1]["action"], "(see)", "and so it shows what ought not to be seen")
            self.assertEqual(list(rows[0]), ["user", "action", "scope", "declared", "platform says", "trying gives"])
            self.lane("meddle planboard none")
            self.lane("meddle planboard telling-totals")
            found = self.json("probe planboard --everyone", "probe", 1)
            self.assertEqual((found["differences"], {s["scope"] for s in found["shown_wrongly"]}), ([], {"planboard"}))
            one = next(s for s in found["shown_wrongly"] if s["user"] == "vik.sorrel")
            self.assertEqual(one["declared"]["lists"], one["shown"]["lists"])
            self.assertLess(one["declared"]["total"], one["shown"]["total"])
