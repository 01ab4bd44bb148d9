"""What stands around the answers: counts, comparisons, expectations, names. Each test is a mistake that nobody may make again."""

import re

from justlane.model.patterns import address_like
from tests.support import EstateTest
from tests.test_semantics import ESTATE, LDIF, PAGE

PLATFORM = re.findall(r"```yaml\n(.*?)```", PAGE, re.DOTALL)[0]
NIGHT = "{give: opener, to: group staff, at: depot, when: {between: 22:00-06:00}, because: At night.}"
ONE = "habits: {decides: any-allow, roles held: one-at-a-time}\n"


class AroundTest(EstateTest):
    forked = True

    def depot(self, *bindings: str, habits: str = "habits: {decides: any-allow}\n", more: str = "", ldif: str = LDIF, zone: str = "") -> None:
        lines = "".join(f"  - {b}\n" for b in bindings)
        platform = PLATFORM + habits + more + (f"bindings:\n{lines}" if lines else "")
        self.write({"estate.yaml": ESTATE.replace("Europe/Amsterdam", zone or "Europe/Amsterdam"), "people.ldif": ldif, "depot.yaml": platform})

    def said(self, line: str, code: int = 0) -> str:
        ran = self.lane(line, code)
        return " ".join((ran.out + ran.err).split())

    def cells(self, line: str) -> int:
        return int(self.lane(f"{line} --format json").json[0]["always"])

    def test_a_count_keeps_to_one_role(self) -> None:
        self.depot("{give: looker, to: group staff, at: depot, because: x}", "{give: opener, to: user ada, at: depot/hall, because: x}", habits=ONE)
        counted = [self.cells(f"tally depot{more}") for more in ("", " --as-role looker", " --as-role opener")]
        self.assertEqual(counted, [12 + 3, 12, 6])

    def test_a_role_named_where_it_means_nothing(self) -> None:
        self.depot("{give: looker, to: group staff, at: depot, because: x}")
        self.assertIn("on depot roles are held together → leave --as-role out", self.said("ask ada see depot --as-role looker", 2))
        self.assertIn("it is not clear on which platform", self.said(f"compare {self.folder} {self.folder} --as-role looker", 2))
        self.depot("{give: looker, to: group staff, at: depot, because: x}", habits=ONE)
        self.assertIn("did you mean looker", self.said("ask ada see depot --as-role lokker", 2).replace("'", ""))
        self.assertIn("ada does not have the role that was named they can act as looker", self.said("ask ada see depot --as-role fixer", 1))

    def test_each_estate_is_judged_on_its_own_clock(self) -> None:
        self.depot(NIGHT)
        self.lane(f"compare {self.folder} {self.folder}")
        other = self.top / "other"
        self.folder.rename(other)
        self.folder.mkdir()
        self.depot(NIGHT, zone="Asia/Tokyo")
        (self.top / "nowhere").mkdir()
        for moment, changed in (("", True), (" --at-time 2026-11-25T12:00", True), (" --at-time 2026-11-25T21:00", False)):
            ran = self.lane(f"compare {other} {self.folder}{moment}", int(changed), JUSTLANE_ESTATE="")
            self.assertEqual("ben" in ran.out, changed, ran)

    def test_a_binding_that_was_somebodys_only_role(self) -> None:
        built_in = "{give: looker, to: authenticated, at: depot, built-in: yes, because: x}"
        deny = "{deny: looker, to: group crew, at: depot/yard, because: x}"
        habits = "habits: {decides: deny-wins, roles held: one-at-a-time}\n"
        self.depot(built_in, "{give: opener, to: user ada, at: depot, because: x}", deny, habits=habits)
        other = self.top / "other"
        self.folder.rename(other)
        self.folder.mkdir()
        self.depot(built_in, deny, habits=habits)
        found = self.lane(f"compare {other} {self.folder} --format json", 1).json
        was, now = (self.cells(f"tally depot --estate {f}") for f in (other, self.folder))
        self.assertEqual(found["lost"] - found["gained"], was - now)

    def test_everybody_includes_whoever_has_not_signed_in(self) -> None:
        expected = "expectations:\n  - {only: group staff, may: see, at: depot}\n  - {at most: 2, may: see, at: depot}\n"
        expected += "  - {user: anonymous, may not: see, anywhere in: depot}\n  - {user: anonymous, may: see, at: depot}\n"
        bound = ["{give: looker, to: group staff, at: depot, because: x}", "{give: looker, to: anonymous, at: depot, because: x}"]
        self.depot(*bound, more=expected)
        verdicts = [r["holds"] for r in self.lane("verify --format json", 1).json["expectations"]]
        self.assertEqual(verdicts, [False, False, False, True])
        self.depot(bound[0], more=expected)
        verdicts = [r["holds"] for r in self.lane("verify --format json", 1).json["expectations"]]
        self.assertEqual(verdicts, [True, True, True, False])

    def test_an_account_called_anonymous_stands_for_nobody(self) -> None:
        called = "\ndn: uid=x,dc=depot\nobjectClass: person\nuid: anonymous\n\ndn: uid=y,dc=depot\nobjectClass: person\nuid: authenticated\n"
        self.depot("{give: looker, to: anonymous, at: depot, because: x}", ldif=LDIF + called)
        self.assertEqual(self.said("check", 1).count("reserved-login"), 2)
        self.assertIn("yes anonymous may see", self.said("ask anonymous see depot"))
        self.assertIn("no ben may not see", self.said("ask ben see depot", 1))

    def test_a_day_beside_a_situation_sets_the_day_alone(self) -> None:
        self.depot("{give: looker, to: group staff, at: depot, until: 2026-11-25, because: x}")
        for day, code in (("2026-11-25", 0), ("2026-11-26", 1)):
            self.lane(f"ask ben see depot --multi-factor --at-time {day}", code)
        self.depot(*(f"{{give: looker, to: group staff, at: depot, when: {{between: {h}}}, because: x}}" for h in ("00:01-12:00", "12:00-24:00")))
        self.lane("ask ben see depot --multi-factor --at-time 2026-11-25T00:00", 1)

    def test_a_bundle_is_held_to_what_its_pairs_would_be(self) -> None:
        kit = "bundles: {kit: {for: x, holds: [looker at depot/hall]}}\n"
        only_groups = "habits: {decides: deny-wins, binds: groups}\n"
        for bound, habits, told in (
            ("{give: bundle kit, to: user ada, because: x}", only_groups, "binds groups only, found user ada"),
            ("{deny: bundle kit, to: group staff, because: x}", "habits: {decides: any-allow}\n", "any-allow"),
            ("{give: bundle kit, to: local group nobody, because: x}", only_groups, "there is no local group on depot named 'nobody'"),
        ):
            self.depot(bound, habits=habits, more=kit)
            self.assertIn(told, self.said("check", 2))

    def test_places_that_publication_or_the_way_tells_apart(self) -> None:
        self.depot("{give: opener, to: group staff, at: depot, because: x}")
        kinds = self.lane("tally depot --format json").json[0]
        more = "published: [{group: staff, to: depot/hall}]\n"
        self.depot("{give: opener, to: group staff, at: depot, because: x}", habits="habits: {decides: any-allow, publication: needed}\n", more=more)
        told_apart = self.lane("tally depot --format json").json[0]
        self.assertEqual((kinds["scope_classes"], told_apart["scope_classes"]), (3, 5))

    def test_side_by_side_with_their_conditions(self) -> None:
        self.depot(
            "{give: looker, to: user ada, at: depot, when: {multi-factor: yes}, because: x}", "{give: looker, to: user ben, at: depot, because: x}"
        )
        ran = self.lane("compare --person ada --with ben", 1)
        self.assertRegex(ran.out, "only without a second factor")
        self.depot("{give: looker, to: [user ada, user ben], at: depot, because: x}")
        self.lane("compare --person ada --with ben")

    def test_findings_that_were_missing(self) -> None:
        looks = "{give: looker, to: group staff, at: depot, because: x}"
        for bindings, more, code, told in (
            ([looks, looks], "", 1, "same-binding-twice"),
            ([looks], "local groups: {l: {holds: [group staff]}}\n", 1, "no-purpose"),
            ([looks], "published: [{group: staff, to: depot}]\n", 1, "no-effect"),
            ([looks.replace("because", "when: {between: 08:00-08:00}, because")], "", 2, "08:00-08:00"),
        ):
            self.depot(*bindings, more=more)
            self.assertIn(told, self.said("check", code))
        kit = "bundles: {kit: {for: x, holds: [looker at depot]}}\n"
        self.depot(looks, "{give: bundle kit, to: group staff, because: x}", more=kit)
        self.assertNotIn("same-binding-twice", self.said("check", 1))
        self.depot(looks.replace("because", "when: {between: 08:00-24:00}, because"))
        self.assertIn("08:00-24:00", self.said("ask ben see depot", 1))

    def test_a_name_that_is_unknown_says_what_may_be_meant(self) -> None:
        looks = "{give: looker, to: group staff, at: depot, until: 2026-01-31, because: x}"
        self.depot(looks)
        self.assertIn(
            "see was given here, and that has ended: · group staff is given looker at depot, ended 2026-01-31", self.said("ask ben see depot", 1)
        )
        self.assertIn("not on that day: · group staff is given looker at depot, until", self.said("ask ben see depot --at-time 2026-02-01", 1))
        self.assertRegex(
            self.said("ask zoe see depot", 2), r"nobody like that was there on 20\d\d-\d\d-\d\d at \d\d:\d\d; for somebody new: justlane people pull"
        )
        self.depot(looks.replace("group staff", "group l"), more="local groups: {l: {for: x, holds: [group staff]}}\n")
        self.assertIn("it is a local group of depot: write `local group l`", self.said("check", 2))
        self.depot(looks.replace("because: x", "because: x, y z"))
        self.assertIn("inside { } a comma ends it", self.said("check", 2))
        self.depot(looks, looks.replace("group staff", "user ben"), ldif="version: 1\n")
        self.assertEqual(self.said("check", 2).count("holds nobody"), 1)

    def test_suggestions_are_those_of_an_author(self) -> None:
        built_in = "{give: opener, to: authenticated, at: depot/yard, built-in: yes, because: x}"
        self.depot(
            "{give: looker, to: group mechanics, at: depot, because: x}", "{give: opener, to: group mechanics, at: depot/hall, because: x}", built_in
        )
        said = self.said("ask ben open depot/hall", 1)
        self.assertIn("join group mechanics, which has opener at depot/hall", said)
        self.assertNotIn("looker", said.partition("would turn")[2])
        self.assertIn("give opener to authenticated here too", said)
        self.assertNotIn("join", self.said("ask anonymous open depot/hall", 1))
        self.depot("{give: looker, to: group staff, at: depot, because: x}", habits="habits: {decides: any-allow, on the way: open}\n")
        self.assertIn("let looker allow open: group staff has it at depot", self.said("ask ben see depot/hall", 1))

    def test_names_of_scopes_hold_any_printable_character(self) -> None:
        self.saltmarsh()
        path = self.folder / "platforms" / "sourcebank.yaml"
        path.write_text(path.read_text().replace("website: path", "'web site (new), 50 % №?#*': path"))
        ran = self.run_lane("ask", "priya.fenn", "write-path", "sourcebank/portal/web site (new), 50 % №?#*")
        self.assertEqual(ran.code, 0, ran)
        with self.standing_in("sourcebank"):
            self.lane("align sourcebank --yes")
            self.assertIn("proved", self.said("probe sourcebank"))
        self.depot()
        for wrong in ("'. '", "..", "'a/b'", "' a'", '"a\\u202eb"', '"a\\tb"'):
            self.write({"depot.yaml": PLATFORM.replace("  yard:", f"  {wrong}:") + "habits: {decides: any-allow}\n"})
            self.assertIn("expected a name of printable characters without /", self.said("check", 2))

    def test_reach_narrowed_to_an_action(self) -> None:
        self.depot("{give: opener, to: group staff, at: depot/hall, because: x}", "{give: fixer, to: group crew, at: depot/yard, because: x}")
        self.assertEqual(self.lane("reach ada --action fix --format json").json["cells"], 1)
        self.assertEqual(self.lane("reach ada --action *e* --format json").json["cells"], 6 + 4)
        self.assertIn("reaches nothing of fix", self.said("reach ben --action fix", 1))
        self.assertIn("there is no action 'fax' → did you mean fix?", self.said("reach ada --action fax", 2))

    def test_patterns_of_addresses(self) -> None:
        like = (("a/b", "a/b"), ("a/*", "a/b"), ("a/**", "a"), ("a/**", "a/b/c"), ("a/**/c", "a/c"), ("**/c", "c"), ("a/**/b*/**/d", "a/x/bc/y/z/d"))
        unlike = (("a/*", "a/b/c"), ("a/*", "a"), ("a/**/c", "a/b"), ("a/**/b/**/b", "a/b"), ("a/b", "a"), ("a**", "a/b"), ("a/**/b/c/**", "a/b/x/c"))
        self.assertEqual([pair for pair in like if not address_like(pair[0])(pair[1])], [])
        self.assertEqual([pair for pair in unlike if address_like(pair[0])(pair[1])], [])
        self.depot("{give: looker, to: group staff, at: depot/*/bax-*, because: x}")
        self.assertIn("depot.yaml:19:41: error: no scope of depot is like 'depot/*/bax-*' (empty-pattern)", self.said("check", 2))
        self.depot("{give: looker, to: group staff, at: d*/hall, because: x}")
        self.assertIn("there is no platform 'd*'", self.said("check", 2))
        group = PLATFORM.replace("  yard:", "  all: {is: resource group, gathers: depot/**}\n  yard:")
        self.depot("{give: looker, to: group staff, at: depot/all, because: x}")
        self.write({"depot.yaml": (self.folder / "depot.yaml").read_text().replace(PLATFORM, group)})
        self.assertEqual(self.lane("reach ben --format json").json["scopes"], 6)
        scopes = "".join(f"  s{n}: {{is: room, holds: {{{', '.join(f'b{m}: box' for m in range(100))}}}}}\n" for n in range(100))
        self.depot(*(f"{{give: looker, to: group staff, at: 'depot/**/b{n}*', because: x}}" for n in range(210)))
        self.write({"depot.yaml": (self.folder / "depot.yaml").read_text().replace("scopes:\n", f"scopes:\n{scopes}")})
        self.assertIn("stand for too many scopes", self.said("check", 2))
