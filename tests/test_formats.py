"""What machines read: the names in JSON and the columns of CSV are pinned, for each command."""

import csv
import io
import re
from collections.abc import Iterator
from typing import Any

from tests.support import DEMO, EstateTest

BINDING = {"effect", "principal", "role", "scope", "here_only", "when", "from", "until", "built_in", "bundle", "pattern", "reason", "file", "line"}
STEP = {"kind", "sentence", "file", "line"}
BOX = {"addresses", "multi_factor", "methods", "other_methods", "times"}


DOCUMENTED = set(re.findall(r"^\| `(\w+)` \|", (DEMO.parent.parent.parent / "docs" / "json.md").read_text(), re.MULTILINE))


def keys(value: Any) -> Iterator[str]:
    if isinstance(value, list):
        for item in value:
            yield from keys(item)
    elif isinstance(value, dict):
        yield from value
        for key, inner in value.items():
            named = key == "actions" and isinstance(inner, dict)
            yield from keys(list(inner.values()) if named else [] if key in ("before", "after") else inner)


class FormatsTest(EstateTest):
    def setUp(self) -> None:
        super().setUp()
        self.saltmarsh()

    def json(self, line: str, code: int = 0) -> Any:
        found = self.lane(f"{line} --format json", code).json
        self.assertEqual(set(keys(found)) - DOCUMENTED, set(), "docs/json.md lists every key")
        return found

    def rows(self, line: str, code: int = 0) -> list[dict[str, str]]:
        return list(csv.DictReader(io.StringIO(self.lane(f"{line} --format csv", code).out)))

    def test_ask(self) -> None:
        yes = self.json("ask imke.vos restart-station fieldnet/north/harbour/nb-07")
        self.assertEqual(set(yes), {"user", "action", "scope", "answer", "conditions", "roles", "needs", "chains", "ceilings", "failures", "misses", "bindings"})
        self.assertEqual((yes["answer"], yes["roles"], yes["misses"]), ("yes", ["field-manager", "station-keeper"], []))
        self.assertEqual(set(yes["chains"][0]), {"binding", "conditions", "steps"})
        self.assertEqual(set(yes["bindings"][yes["chains"][0]["binding"]]), BINDING)
        self.assertEqual([s["kind"] for s in yes["chains"][1]["steps"]], ["member", "given", "allows", "covers"])
        self.assertEqual(set(yes["chains"][1]["steps"][0]), STEP)
        maybe = self.json("ask wim.anker delete-series siltstore/raw", 1)
        self.assertEqual((maybe["answer"], len(maybe["conditions"])), ("only if", 1))
        self.assertEqual(set(maybe["ceilings"][0]), {"never", "to", "but_not_to", "when", "reason", "file", "line"})
        self.assertEqual(maybe["chains"][0]["conditions"], maybe["conditions"])
        self.assertEqual(self.rows("ask svc-nightly write-series siltstore/raw", 1)[0]["when"], "from 192.0.2.0/27, 00:00-06:00")
        box = maybe["conditions"][0]
        self.assertEqual(set(box), BOX)
        self.assertEqual(box["addresses"], [{"inside": n, "but_not": []} for n in ("192.0.2.0/24", "2001:db8:5a17::/48")])
        self.assertEqual((box["methods"], box["other_methods"], box["multi_factor"]), (["pin"], True, None))
        night = self.json("ask svc-nightly write-series siltstore/raw", 1)["conditions"][0]
        self.assertEqual(night["times"], [{"days": ["mon", "tue", "wed", "thu", "fri", "sat", "sun"], "hours": ["00:00-06:00"]}])
        no = self.json("ask odd.pilcher see-task planboard", 1)
        self.assertEqual(set(no["failures"][0]), {"failing", "action", "scope", "roles", "reason", "bindings", "file", "line"})
        self.assertEqual(no["failures"][0]["failing"], "may not sign in")
        misses = self.json("ask joost.baan restart-station fieldnet/north/harbour/nb-07", 1)["misses"]
        self.assertEqual(set(misses[0]), {"change", "role", "conditions", "binding", "edit", "effect"})
        need = self.json("ask svc-nightly run-pipeline buildyard/forecast/nightly")["needs"]
        self.assertEqual({(n["file"], n["line"]) for n in need}, {("platforms/buildyard.yaml", 9)}, "the habit's own line")
        self.assertEqual([(n["action"], n["scope"]) for n in need], [("see-pipeline", "buildyard"), ("see-pipeline", "buildyard/forecast")])
        rows = self.rows("ask imke.vos restart-station fieldnet/north/harbour/nb-07")
        self.assertEqual(list(rows[0]), ["user", "action", "scope", "answer", "when", "way", "step", "sentence", "file", "line"])
        self.assertEqual({r["way"] for r in rows}, {"1", "2"})

    def test_reach_and_sight(self) -> None:
        tree = self.json("reach vik.sorrel fieldnet")
        self.assertEqual(set(tree), {"user", "enabled", "within", "narrowed_to", "scopes", "cells", "bindings", "platforms"})
        top = tree["platforms"][0]
        self.assertEqual(set(top), {"scope", "kind", "actions", "inside"})
        harbour = top["inside"][0]["inside"][0]
        self.assertEqual(set(harbour["actions"]["read-log"]), {"conditions", "grants"})
        self.assertEqual(set(harbour["actions"]["read-log"]["grants"][0]), {"through", "conditions", "binding"})
        self.assertEqual(set(tree["bindings"][0]), BINDING)
        self.assertEqual(list(self.rows("reach vik.sorrel")[0]), ["scope", "kind", "action", "when", "role", "given to", "line"])
        self.assertEqual(list(self.rows("reach vik.sorrel --see")[0]), ["scope", "kind", "on the way only", "seen inside"])
        whens = {r["when"] for r in self.rows("reach svc-nightly siltstore")}
        self.assertEqual(whens, {"from 192.0.2.0/27, 00:00-06:00"})

    def test_holders_tally_and_verify(self) -> None:
        held = self.json("holders manage-crew fieldnet/north/harbour")
        self.assertEqual(set(held), {"action", "scope", "applicable", "holders", "bindings"})
        self.assertEqual(set(held["holders"][0]), {"user", "conditions", "chains"})
        rows = self.rows("holders correct-series siltstore/checked")
        self.assertEqual(list(rows[0]), ["user", "through", "when", "role", "given at", "line"])
        self.assertEqual(rows[0]["when"], "with a second factor, signed in other than by pin")
        columns = ["platform", "users", "user_classes", "scopes", "scope_classes", "actions", "cells", "always", "sometimes"]
        self.assertEqual([list(t) for t in self.json("tally buildyard")], [columns])
        self.assertEqual([list(r) for r in self.rows("tally buildyard")], [columns])
        verdicts = self.json("verify")
        self.assertEqual((verdicts["hold"], verdicts["fail"]), (20, 0))
        self.assertEqual(set(verdicts["expectations"][0]), {"expectation", "reason", "holds", "file", "line", "evidence"})
        self.assertEqual(list(self.rows("verify")[0]), ["expectation", "holds", "file", "line", "evidence"])

    def test_check_and_compare(self) -> None:
        checked = self.json("check", 1)
        self.assertEqual(set(checked), {"estate", "errors", "warnings", "findings"})
        self.assertEqual(list(checked["findings"][0]), ["rule", "severity", "file", "line", "column", "message", "hint"])
        self.assertEqual(self.rows("check", 1)[0]["rule"], "disabled-but-bound")
        pair = self.json("compare --person imke.vos --with lotte.marsh", 1)
        self.assertEqual(set(pair), {"person", "with", "shared", "person_only", "with_only", "bindings"})
        self.assertEqual(set(pair["person_only"][0]), {"actions", "scopes", "conditions", "grants"})
        rows = self.rows("compare --person imke.vos --with lotte.marsh", 1)
        self.assertEqual(list(rows[0]), ["only", "action", "scope", "when", "role", "given to", "line"])

    def test_people(self) -> None:
        pulled = self.json("people pull")
        self.assertEqual(set(pulled), {"snapshot", "taken", "directories", "users", "groups", "memberships", "before", "findings"})
        self.assertEqual(set(pulled["directories"][0]), {"directory", "kind", "where", "users", "groups"})
        self.assertEqual(set(self.json("people show")), {"snapshot", "taken", "directories", "kept"})
        person = self.json("people show vik.sorrel")
        self.assertEqual(set(person), {"user", "name", "enabled", "id", "file", "line", "in"})
        self.assertEqual(set(person["in"][0]), {"group", "through", "file", "line"})
        self.assertEqual(set(self.json("people show contractors")), {"group", "for", "id", "file", "line", "members", "in"})
        size = {"group", "id", "people", "in_all", "enabled", "groups", "for", "file", "line"}
        self.assertEqual(set(self.json("people groups")[0]), size)
        found = self.json("people find crew")
        self.assertEqual((set(found), set(found["groups"][0])), ({"users", "groups"}, size))
        self.assertEqual(set(self.json("people find vos")["users"][0]), {"user", "name", "enabled", "id", "file", "line"})
        self.assertEqual(list(self.rows("people groups")[0]), ["group", "people", "in all", "enabled", "groups", "for", "line"])
        self.assertEqual(list(self.rows("people find crew")[0]), ["is a", "called", "name, or what it is for", "state", "line"])
        self.lane("people pull")
        self.assertEqual(set(self.json("people changes")), {"before", "after", "people", "groups", "access"})
        text = (self.folder / "people" / "saltmarsh.ldif").read_text()
        (self.folder / "people" / "saltmarsh.ldif").write_text(text.replace("uid: vik.sorrel\n", "uid: vik.sorrel\nloginDisabled: TRUE\n"))
        self.lane("people pull")
        changes = self.json("people changes", 1)
        self.assertEqual(set(changes["people"][0]), {"name", "title", "moves", "was", "into", "out_of"})
        self.assertEqual(set(changes["access"]), {"before", "after", "gained", "lost", "people", "groups"})
        rows = self.rows("people changes", 1)
        self.assertEqual(list(rows[0]), ["what", "name", "change", "into", "out of", "action", "scope"])
        self.assertEqual((rows[1]["what"], rows[1]["change"]), ("access", "yes → no"))

    def test_align_and_probe(self) -> None:
        with self.standing_in("quayside"):
            planned = self.json("align quayside --dry-run", 1)
            self.assertEqual(set(planned), {"platform", "revision", "removals", "effect", "steps"})
            self.assertEqual(set(planned["steps"][0]), {"change", "part", "name", "before", "after"})
            self.assertEqual(list(self.rows("align quayside --dry-run", 1)[0]), ["change", "part", "name", "what"])
            self.lane("align quayside --yes")
            probed = self.json("probe quayside")
            self.assertEqual(set(probed), {"platform", "people", "asked", "tried", "kept_out", "let_in", "differences"})
            self.lane("meddle quayside two-faced odd.pilcher start-app quayside/payroll")
            rows = self.rows("probe quayside --thorough", 1)
            self.assertEqual([list(r.values()) for r in rows], [["odd.pilcher", "start-app", "quayside/payroll", "no", "no", "yes"]])
            self.assertEqual(list(rows[0]), ["user", "action", "scope", "declared", "platform says", "trying gives"])
