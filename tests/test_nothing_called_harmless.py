"""Edits, offers, findings and reviews: nothing is offered that is refused, nobody who is gone is passed over."""

import json
import shlex
import time
from typing import Any

from tests.support import EstateTest
from tests.test_sheet import EXPORT, REACHED

GATED = """
platform: hall
for: Pumps.
habits: {decides: any-allow, sign-in: enter}
actions:
  enter: {means: Come in., applies to: [platform]}
  start: {means: Start a pump., applies to: [pump]}
  write-rules: {means: Change the rules., applies to: [platform], sensitive: yes}
scopes: {east: {is: folder, holds: {p1: pump, p2: pump}}}
roles:
  visitor: {for: Coming in., allows: enter}
  starter: {for: Starting., allows: [start, write-rules]}
  helper: {for: Helping., allows: start, built-in: yes}
"""
PEOPLE = "\n".join(
    [
        f"dn: uid={login},dc=s\nobjectClass: inetOrgPerson\nuid: {login}\ncn: {login}\n{more}"
        for login, more in (("dan", ""), ("eva", ""), ("gone", "pwdAccountLockedTime: 000001010000Z\n"))
    ]
    + ["dn: cn=crew,dc=s\nobjectClass: groupOfNames\ncn: crew\ndescription: x\nmember: uid=dan,dc=s\n"]
)

WISH = "joost.baan restart-station fieldnet/north/harbour/nb-07"


class EstateItselfTest(EstateTest):
    forked = True

    def hall(self, more: str = "bindings: []\n", hall: str = GATED, root: str = "") -> None:
        estate = f"estate: H\ntime zone: UTC\ndirectories: {{office: {{ldif: people.ldif}}}}\ninclude: [hall.yaml, more.yaml]\n{root}"
        self.write({"estate.yaml": estate, "hall.yaml": hall, "people.ldif": PEOPLE, "more.yaml": more})


class MovingTest(EstateItselfTest):
    def test_a_place_that_moves_stays_itself_and_locks_nobody_out(self) -> None:
        self.saltmarsh()
        ran = self.lane("scope move fieldnet/north/flats/mast-03 fieldnet/inland/radar --dry-run --format json", 1).json
        self.assertEqual(ran["effect"]["gained"], 0)
        self.assertEqual(ran["effect"]["lost"], 16, "what those of the north may no longer do there, and nothing of what stays")
        self.assertEqual(ran["refusals"], [])
        self.lane("scope move fieldnet/north/flats/mast-03 fieldnet/inland/radar --yes")
        back = self.lane("undo --dry-run --format json", 1).json["effect"]
        self.assertEqual((back["gained"], back["lost"]), (16, 0))

    def test_who_moves_what_they_administer_is_not_locked_out(self) -> None:
        more = "bindings:\n  - {give: [visitor, starter], to: user dan, at: hall, because: x., until: 2999-01-01}\n"
        hall = GATED + "administration: {actions: [start]}\n"
        self.hall(
            more,
            hall.replace("holds: {p1: pump", "holds: {inner: {is: folder, holds: {p1: pump}}").replace("p2: pump}}}", "p2: pump}}, west: folder}"),
        )
        ran = self.lane("scope move hall/east/inner hall/west --acting-as dan --dry-run --format json", 1).json
        self.assertEqual((ran["effect"]["gained"], ran["effect"]["lost"], ran["refusals"]), (0, 0, []))


class OffersTest(EstateItselfTest):
    def offers(self, line: str, code: int = 0) -> Any:
        return self.lane(f"{line} --format json", code).json

    def test_sign_in_and_a_role_together_are_offered_and_carried_out(self) -> None:
        self.hall()
        found = self.offers("suggest dan start hall/east/p1", 1)
        self.assertEqual(found["impossible"], [])
        commands = found["offers"][0]["commands"]
        self.assertEqual(len(commands), 2)
        for command in commands:
            ran = self.run_lane(*shlex.split(command)[1:], "--yes")
            self.assertEqual(ran.code, 0, ran)
        self.lane("ask dan start hall/east/p1")

    def test_no_role_of_the_platform_itself_is_offered_to_be_changed_and_what_the_wish_is_against_is_said(self) -> None:
        more = "bindings:\n  - {give: [visitor, helper], to: group crew, at: hall, because: x.}\nexpectations:\n  - {at most: 0, may: write-rules, at: hall}\n"
        self.hall(more)
        for line in ("ask dan write-rules hall", "suggest dan write-rules hall"):
            ran = self.run_lane(*line.split(), "--format", "json").json
            offers = [c for o in ran.get("offers", []) for c in o["commands"]] + [m.get("command") for m in ran.get("misses", ran.get("near", []))]
            self.assertFalse([c for c in offers if c and "role allow helper" in c], offers)
            self.assertFalse([c for c in offers if c and "--even-so" not in c], "it would break what is expected")
            against = [said for one in (*ran.get("offers", []), *ran.get("misses", [])) for said in one["against"]]
            self.assertIn("at most 0 may write-rules at hall", against[0])

    def test_where_something_else_does_it_nothing_is_offered_that_would_be_refused(self) -> None:
        self.saltmarsh()
        expectations = self.folder / "expectations.yaml"
        kept = "  - user: joost.baan\n    may not: [restart-station, update-firmware]\n    anywhere in: fieldnet/north\n"
        self.assertIn(kept, expectations.read_text())
        expectations.write_text(expectations.read_text().replace(kept, ""))
        for line in (f"ask {WISH}", f"suggest {WISH}"):
            found = self.offers(line, 1)
            for one in (*found.get("offers", []), *found.get("misses", [])):
                self.assertEqual(one["against"], [])
        self.assertNotIn("tool-keepers", json.dumps(self.offers(f"ask {WISH}", 1)["misses"]), "a fourth administrator would be one too many")

    def test_what_the_wish_itself_is_against_is_carried_out_as_it_is_printed(self) -> None:
        self.saltmarsh()
        offer = self.offers(f"suggest {WISH}", 1)["offers"][0]
        self.assertIn("joost.baan may not restart-station", offer["against"][0])
        for command in offer["commands"]:
            self.assertEqual(self.run_lane(*shlex.split(command)[1:], "--yes").code, 0)
        self.lane(f"ask {WISH}")

    def test_a_refusal_says_how_to_make_what_belongs_together(self) -> None:
        more = "bindings:\n  - {give: visitor, to: group crew, at: hall, because: x.}\nexpectations:\n  - {at most: 0, may: write-rules, at: hall}\n"
        self.hall(more)
        said = " ".join(self.lane("give starter --to crew --at hall --because x --yes", 2).err.split())
        self.assertIn("what is expected would not hold any more", said)
        self.assertIn("If another edit belongs to it", said)


class RemarksTest(EstateItselfTest):
    def test_give_says_what_check_warns_of_from_now_on(self) -> None:
        self.hall()
        ran = self.run_lane("give", "starter", "--to", "user eva", "--at", "hall/east", "--because", "x", "--dry-run", "--format", "json").json
        kinds = {f["rule"]: f["message"] for f in ran["warnings"]}
        self.assertIn("for ever", kinds["person-without-end"])
        self.assertIn("nobody of them can use it, for want of enter at hall", kinds["cannot-get-in"])
        self.run_lane("give", "starter", "--to", "user eva", "--at", "hall/east", "--because", "x", "--yes")
        rules = {f["rule"] for f in self.lane("check --format json", 1).json["findings"]}
        self.assertLessEqual({"person-without-end", "cannot-get-in"}, rules)

    def test_check_counts_what_a_line_gives_where_it_can_be_done(self) -> None:
        self.hall("bindings:\n  - {give: starter, to: user eva, at: hall/east, because: x.}\n")
        said = next(f["consequence"] for f in self.lane("check --format json", 1).json["findings"] if f["rule"] == "person-without-end")
        self.assertEqual(said, "this line gives start to 1 person on 2 scopes", "write-rules cannot be done there")


class GoneTest(EstateItselfTest):
    def test_whoever_is_disabled_is_found_however_they_are_named(self) -> None:
        local = "local groups:\n  helpers: {for: x., holds: [user gone]}\n"
        ceiling = "ceilings:\n  - {never: start, to: authenticated, but not to: user gone, because: x.}\n"
        more = "bindings: []\nexpectations:\n  - {user: gone, may: start, at: hall/east/p1}\n"
        self.hall(more, GATED + local + ceiling, root="break-glass:\n  - {account: user gone, from network: 192.0.2.0/24, because: x.}\n")
        found = self.lane("check --only disabled-but-named --format json", 1).json["findings"]
        told = " ".join(f["message"] for f in found)
        for words in (
            "is in the local group helpers of hall",
            "is left out of a ceiling for authenticated on hall",
            "is expected to do something",
            "is there for emergencies",
        ):
            self.assertIn(words, told)

    def test_a_review_goes_to_who_stands_in_and_says_so(self) -> None:
        hall = GATED.replace("scopes: {east: {is: folder,", "owner: user dan\nscopes: {east: {is: folder, owner: user gone,")
        self.hall("bindings:\n  - {give: starter, to: group crew, at: hall/east, because: x.}\n", hall)
        ran = self.run_lane("review", "out", str(self.top / "out"))
        self.assertIn("user gone, who answers for 1 grant, is gone: user dan is asked instead", ran.err)
        self.assertEqual(
            [p.name.split("-")[0] for p in (self.top / "out").iterdir() if "dan" in p.name],
            [p.name.split("-")[0] for p in (self.top / "out").iterdir()],
        )


class SheetOfOthersTest(EstateTest):
    forked = True

    def test_what_names_the_unknown_is_not_judged_and_the_rest_is_adopted(self) -> None:
        self.pumphall(pumphall=("\nactions:", REACHED + "\nactions:"))
        self.write({"exports/hall.csv": EXPORT + ",nobody.there,mechanic,east\n,ben.ferry,wizard,east\nstaff,,mechanic,moon\n"})
        drift = self.lane("drift pumphall --format json", 1).json[0]
        self.assertEqual(len(drift["unjudged"]), 3)
        text = " ".join(self.lane("drift pumphall", 1).out.split())
        self.assertIn("the estate knows no role 'wizard'", text)
        for d in drift["differences"]:
            self.assertEqual(bool(d["uncounted"]), any(word in d["says"] for word in ("nobody.there", "wizard", "moon")), d)
        self.lane("align pumphall --dry-run", 1)
        ran = self.lane("drift pumphall --adopt --yes")
        for words in ("user nobody.there", "role 'wizard'", "scope 'pumphall/moon'"):
            self.assertIn(words, ran.err)
        self.assertIn("user ben.ferry", (self.folder / "pumphall.yaml").read_text())
        self.assertEqual(len(self.lane("drift pumphall --format json", 1).json[0]["differences"]), 3)


class PastTest(EstateTest):
    forked = True

    def test_yesterdays_losses_do_not_change_with_todays_files(self) -> None:
        self.pumphall()
        self.lane("people pull")
        people = (self.folder / "people.ldif").read_text()
        (self.folder / "people.ldif").write_text(people.replace("member: uid=ada.brook", "member: uid=ben.ferry"))
        self.lane("people pull")
        first = self.changes()
        self.assertTrue(first)
        time.sleep(1.1)  # what was edited within the second of a pull counts as before it
        self.lane("role allow watcher start-pump --on pumphall --yes")
        self.run_lane("withdraw", "mechanic", "--from", "group mechanics", "--at", "pumphall/diesel", "--yes", "--even-so", "x")
        self.assertEqual(self.changes(), first)

    def changes(self) -> list[Any]:
        rows = json.loads(self.lane("chart changes --format json").out)["rows"]
        return [row for row in rows if row["source"] == "people"]
