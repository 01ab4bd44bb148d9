"""One human, several accounts: a platform is told and read in its own names, answers speak of people."""

from __future__ import annotations

import csv
import shutil
import unittest

from hypothesis import HealthCheck, given, settings, strategies
from msgspec.structs import replace

from justlane.engine.changes.comparison import differences
from justlane.engine.decision.judge import Judge, Question
from justlane.engine.facts.account_names import account_of, in_accounts
from justlane.engine.facts.index import EstateIndex
from justlane.engine.facts.people import person
from justlane.model.accounts import Account, AccountKind, Accounts, Letters
from justlane.model.estate import Estate
from justlane.platforms.accounts import bare
from tests.drawing import NOW, estates
from tests.support import DEMO, EstateTest

ACCOUNTS = """
accounts:
  written: capitals
  known:
    IMKE_V: user imke.vos
    IMKE_ADM: also user imke.vos
    svc-tide: {machine of: user imke.vos, because: Fills the boards.}
    svc-import: {machine of: group release-managers, because: Brings in figures.}
    zz9: gone
"""


class ViewTest(unittest.TestCase):
    @settings(max_examples=60, deadline=None, suppress_health_check=list(HealthCheck))
    @given(estates(), strategies.data())
    def test_a_platform_that_calls_people_otherwise_decides_alike(self, estate: Estate, data: strategies.DataObject) -> None:
        """Names may be swapped, and clash with logins; a second account has nothing that is not for everybody."""
        platform, users = estate.platforms["p"], sorted(estate.directory.users)
        names = data.draw(strategies.permutations([*users[1:], "nobody-yet"]))
        own = {name: Account(name, AccountKind.OWN, platform.source, login) for login, name in zip(users[:-1], names, strict=False)}
        known = {**own, "second": Account("second", AccountKind.ALSO, platform.source, users[0])}
        letters = data.draw(strategies.sampled_from(list(Letters)))
        accounts = Accounts(platform.source, written=letters, known=known)
        index = EstateIndex(replace(estate, platforms={**estate.platforms, "p": replace(platform, accounts=accounts)}))
        there = in_accounts(index, "p")
        self.assertIs(in_accounts(there, "p"), there, "nobody is named a second time")
        called = {login: account_of(there, "p", login) or "" for login in users}
        self.assertEqual(len(set(called.values())), len(users))
        numbered = there.membership.numbered
        self.assertEqual(sorted(numbered.logins), sorted(there.estate.directory.users))
        for login, account in called.items():
            self.assertEqual(there.estate.platforms["p"].accounts and there.estate.platforms["p"].accounts.login(account), login)
            was, now = (
                Judge(side.platform("p"), person(side, name, "p", NOW), Question(NOW), side.estate.time_zone)
                for side, name in ((index, login), (there, account))
            )
            for place in platform.scopes:
                self.assertEqual(was.at(place), now.at(place), (login, account, place))
        self.assertFalse(differences((there, there), Question(NOW), within="p").found)


class AccountsTest(EstateTest):
    def tideboard(self) -> None:
        """The board that has grown, as a system holds it that writes names in capitals."""
        shutil.copytree(DEMO / "tideboard", self.folder, dirs_exist_ok=True)
        file = self.folder / "export.csv"
        rows = list(csv.reader(file.read_text().splitlines()))
        named = {"imke.vos": "IMKE_V", "max_m": "MAX.MUELLER", "lars.holm": "HOLM_L"}
        rows = [rows[0], *([named.get(who.lower(), who.upper() if "." in who else who), what, at] for who, what, at in rows[1:])]
        rows += [["IMKE_ADM", "keeper", "tideboard"], ["svc-tide", "exporter", "stations/north"], ["zz9", "reader", "stations/north"]]
        file.write_text("".join(",".join(row) + "\n" for row in rows))
        board = self.folder / "tideboard.yaml"
        board.write_text(board.read_text() + ACCOUNTS)

    def test_what_has_grown_is_taken_over_person_by_person(self) -> None:
        self.tideboard()
        self.lane("scope pull tideboard --yes")
        listed = self.lane("accounts tideboard --format json", 1).json["accounts"]
        by_name = {one["account"]: one for one in listed}
        self.assertEqual({n for n, one in by_name.items() if one["standing"] == "unknown"}, {"MAX.MUELLER", "HOLM_L"})
        self.assertEqual(by_name["HOLM_L"]["guesses"], [{"whose": "user lars.holm", "reason": "the last name and a first letter"}])
        self.assertEqual((by_name["JOOST.BAAN"]["whose"], by_name["JOOST.BAAN"]["standing"]), ("user joost.baan", "by rule"))
        self.assertEqual((by_name["zz9"]["whose"], by_name["IMKE_ADM"]["whose"]), ("gone", "also user imke.vos"))
        before = (self.folder / "tideboard.yaml").read_bytes()
        self.lane("accounts tideboard --take HOLM_L --yes")
        self.assertIn(b"HOLM_L: user lars.holm", (self.folder / "tideboard.yaml").read_bytes())
        self.lane("undo --yes")
        self.assertEqual((self.folder / "tideboard.yaml").read_bytes(), before)
        self.lane("accounts tideboard --take HOLM_L --yes")
        found = self.lane("drift tideboard --format json", 1).json[0]
        self.assertEqual(len(found["outside"]), 2, "machines are left alone")
        self.assertFalse([u for u in found["unjudged"] if "zz9" in u or "svc-" in u or "IMKE" in u])
        self.run_lane("drift", "tideboard", "--adopt", "--yes")
        text = (self.folder / "tideboard.yaml").read_text()
        self.assertIn("    to: user imke.vos\n    at: tideboard\n    as account: IMKE_ADM\n", text)
        self.assertNotIn("user IMKE", text)
        after = self.lane("drift tideboard --format json", 1).json[0]
        self.assertEqual({d["name"] for d in after["differences"]} and len(after["differences"]), 3, "two not judged, and one that is gone")
        answer = self.lane("ask imke.vos keep-board tideboard/service/desk")
        self.assertIn("is given keeper at tideboard, as IMKE_ADM", answer.out)
        self.assertIn(", as IMKE_V", self.lane("ask imke.vos take-out tideboard/stations/north").out)
        spare = self.lane("tidy --dry-run", 1).out
        self.assertNotIn("IMKE_ADM", spare)
        self.assertNotIn("reader to user imke.vos at tideboard/stations/radar", spare, "her own account needs it")
        shown = self.lane("align tideboard --dry-run", 1).out
        self.assertIn("remove  reader to user zz9 at tideboard/stations/north", shown)
        self.assertNotIn("svc-tide at tideboard/stations/north\n  remove", shown)

    def test_slips_are_named_with_their_line(self) -> None:
        cases = {
            "IMKE_V: user imke.vos": ("IMKE_V: user imke.voss", "the directory has no user 'imke.voss'"),
            "zz9: gone": ("IV: user imke.vos", "imke.vos has an account already, IMKE_V"),
            "IMKE_ADM: also user imke.vos": ("IMKE_ADM: imke.vos", "expected `user LOGIN`, `also user LOGIN`"),
            "{machine of: user imke.vos, because: Fills the boards.}": ("{because: Fills.}", "somebody's, a machine's, or gone"),
        }
        self.tideboard()
        file = self.folder / "tideboard.yaml"
        text = file.read_text()
        for right, (wrong, said) in cases.items():
            with self.subTest(wrong):
                file.write_text(text.replace(right, wrong))
                self.assertRegex(" ".join(self.lane("check", 2).out.split()), r"tideboard.yaml:\d+:\d+: error: .*" + said.replace("(", r"\("))
        line = "\nbindings:\n  - {give: reader, to: user imke.vos, at: tideboard, as account: %s, because: x}\n"
        for account, said in (("NOBODY", "knows no second account 'NOBODY'"), ("IMKE_V", "knows no second account 'IMKE_V'")):
            file.write_text(text + line % account)
            self.assertIn(said, " ".join(self.lane("check", 2).out.split()))
        file.write_text(text.replace("decides: any-allow", "decides: deny-wins") + line % "IMKE_ADM")
        self.assertIn("would decide otherwise than the person", " ".join(self.lane("check", 2).out.split()))
        file.write_text(text)
        self.assertIn("has no account 'HOLM'", self.lane("accounts tideboard --take HOLM", 2).err)
        self.assertIn("nobody's name comes near MAX.MUELLER", self.lane("accounts tideboard --take MAX.MUELLER", 2).err)
        self.assertIn("does not say whose", self.run_lane("accounts", "tideboard", "--is", "zz9", "imke.vos").err)

    def test_a_platform_is_aligned_and_proved_in_its_own_names(self) -> None:
        self.saltmarsh()
        file = self.folder / "platforms" / "buildyard.yaml"
        said = "\naccounts:\n  becomes: '*@yard'\n  known:\n    PETRA: user petra.loam\n    bot: {machine of: user imke.vos, because: x}\n"
        file.write_text(file.read_text() + said)
        with self.standing_in("buildyard"):
            self.lane("align buildyard --yes")
            held = (self.folder / "standin" / "buildyard.json").read_text()
            self.assertIn("PETRA", held)
            self.assertIn("imke.vos@yard", held)
            self.assertNotIn('"petra.loam"', held)
            self.assertIn("proved", self.lane("probe buildyard --everyone").out)
            self.lane("meddle buildyard grant PETRA release-publisher buildyard/release")
            self.assertIn("PETRA (petra.loam)", self.lane("drift buildyard", 1).out)
            self.lane("align buildyard --yes")
            self.lane("align buildyard --undo --yes")
            self.lane("align buildyard --yes")
            self.assertIn("matches", self.lane("drift buildyard").out)


class GuessTest(unittest.TestCase):
    def test_names_are_compared_as_most_systems_would_spell_them(self) -> None:
        self.assertEqual(bare("Søren Müller-Åberg"), "soerenmuelleraaberg")
        self.assertEqual(bare("MAX_M"), "maxm")
        self.assertEqual(bare("rené"), "rene")


class SamePersonTest(EstateTest):
    def test_limits_and_duties_count_people(self) -> None:
        self.pumphall(pumphall=("  see-pump:", "  call: {applies to: [platform]}\n  see-pump:"))
        board, root = self.folder / "pumphall.yaml", self.folder / "estate.yaml"
        lines, text = board.read_text().replace("\nroles:", "\nroles:\n  caller: {for: Calls., allows: call}"), root.read_text()
        duties = "[repair-pump at pumphall/west/pump-3, call at pumphall]"
        (self.folder / "expectations.yaml").write_text(
            f"expectations:\n  - {{at most: 1, may: repair-pump, at: pumphall/west/pump-3}}\n  - {{nobody may both: {duties}}}\n"
        )
        one_person = f"{text}\npeople: {{same person: [[ada.brook, ben.ferry]]}}\n"
        for role, apart, together in (("mechanic", [False, True], [True, True]), ("caller", [True, True], [True, False])):
            board.write_text(lines + f"\n  - {{give: {role}, to: user ben.ferry, at: pumphall, because: x}}\n")
            for content, holds in ((text, apart), (one_person, together)):
                root.write_text(content)
                said = self.lane("verify --format json", 0 if all(holds) else 1).json
                self.assertEqual([one["holds"] for one in said["expectations"]], holds, (role, said))
        ran = self.lane("verify", 1)
        for fact in ("ada.brook may repair-pump", "ben.ferry may call"):
            self.assertIn(fact, " ".join(ran.out.split()))
        for wrong, why in (
            ("[[ada.brook]]", "one login alone"),
            ("[[ada.brook, nobody]]", "no user 'nobody'"),
            ("[[ada.brook, ben.ferry], [ben.ferry, ada.brook]]", "one person with others at"),
        ):
            root.write_text(f"{text}\npeople: {{same person: {wrong}}}\n")
            self.assertIn(why, " ".join(self.lane("check", 2).out.split()))
