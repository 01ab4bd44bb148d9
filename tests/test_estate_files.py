"""What is wrong with estate files is said with file, line and column, all of it in one run."""

import json
import os
import random
import re
import unittest
from datetime import UTC, datetime
from unittest import mock

import jsonschema
from msgspec.structs import replace

from justlane.directories.interface import read_people
from justlane.engine.decision.judge import Question
from justlane.engine.facts.index import EstateIndex
from justlane.engine.offers.suggestions import reply
from justlane.engine.questions.reach import reach
from justlane.files.disk.tables import Tables
from justlane.files.keeping.store import SCRIPT, Store, write
from justlane.files.opening import cache
from justlane.files.opening.load import load
from justlane.files.people.snapshots import newest, open_snapshot
from justlane.files.reading import named_files, yamlnodes
from justlane.files.reading.schema import schemas
from justlane.files.reading.yamltext import read
from justlane.model.people import Directory
from tests.support import DEMO, PUMPHALL, EstateTest

SCRAPS = ["{", "}", "[", "]", ",", ": ", ":", "- ", "? ", "! ", "&a ", "*a", "|\n", ">", '"', "'", " #", "\n", "\n\n", "  ", "\t", "%", "---\n", "null", "~", "é", "\\x41",
          "\r\n", "{a: 1}", "[a, b]", '"a":1', "a: b", "- - ", "@", "`", "0x1F", "<<: "]  # fmt: skip
BAD = [
    # file (stem), text, replaced by, then what is said: place, message, hint
    ("pumphall", "give: watcher", "give: wacher", "pumphall.yaml:49:11", "no role on pumphall named 'wacher'", "watcher"),
    ("pumphall", "group staff", "group stuff", "pumphall.yaml:50:9", "the directory has no group 'stuff'", "staff"),
    ("pumphall", "to: group staff", "to: user ben.fery", "pumphall.yaml:50:9", "no user 'ben.fery'", "ben.ferry"),
    ("pumphall", "to: group staff", "to: staff", "pumphall.yaml:50:9", "found 'staff', expected `group NAME`", ""),
    ("pumphall", "at: pumphall\n", "at: pumphal\n", "pumphall.yaml:51:9", "there is no platform 'pumphal'", "pumphall"),
    ("pumphall", "[pumphall/east, ", "[pumphall/eest, ", "pumphall.yaml:56:10", "no scope 'pumphall/eest'", "east"),
    ("pumphall", "allows: see-*", "allows: sea-*", "pumphall.yaml:42:13", "no action of pumphall matches 'sea-*'", ""),
    ("pumphall", "allows: see-*", "allows: see-pumps", "pumphall.yaml:42:13", "no action 'see-pumps'", "see-pump"),
    ("pumphall", "allows: see-*", "alows: see-*", "pumphall.yaml:42:5", "there is no key 'alows' here", "allows"),
    ("pumphall", "builds on: watcher", "builds on: mechanic", "pumphall.yaml:43:3", "build on each other: mechanic", ""),
    ("pumphall", 'allows: "*-pump"', 'allows: "*-pump"\n    excepts: see-pump', "pumphall.yaml:43:3", "excepts see-pump, but keeps start-pump, which implies it", "except start-pump too"),
    ("pumphall", "allows: see-*", "allows: see-*\n    excepts: start-pump", "pumphall.yaml:43:14", "would not hold it anyway", ""),
    ("pumphall", "implies: see-pump", "implies: sea-pump", "pumphall.yaml:14:14", "no action 'sea-pump'", "see-pump"),
    ("pumphall", "applies to: [pump]", "applies to: [pomp]", "pumphall.yaml:12:3", "no scope of the kind 'pomp'", "pump"),
    ("pumphall", "gathers: [pumphall/east/pump-2", "gathers: [pumphall/diesel", "pumphall.yaml:34:3", "cover each other: pumphall/diesel", ""),
    ("pumphall", "is: resource group", "is: folder", "pumphall.yaml:34:3", "only a resource group does", ""),
    ("pumphall", "decides: any-allow", "decides: any-alow", "pumphall.yaml:5:12", "found 'any-alow', expected", ""),
    ("pumphall", "sensitive: yes", "sensitive: perhaps", "pumphall.yaml:20:16", "expected yes or no", ""),
    ("pumphall", "    because: Everybody on shift answers the telephone.\n", "", "pumphall.yaml:49:5", "the key 'because' is missing", "reason"),
    ("pumphall", "binds: groups and users", "binds: groups\n", "pumphall.yaml:51:9", "binds groups only, found user ben.ferry", ""),
    ("pumphall", "because: Everybody", "because: Every body\n    because: Everybody", "pumphall.yaml:53:5", "'because' stands here a second time", "line 52"),
    ("pumphall", "habits:", "habits: [", "pumphall.yaml", "this is not YAML", ""),
    ("pumphall", "platform: pumphall", "platform: pump hall", "pumphall.yaml:1:11", "without spaces", ""),
    ("expectations", "may: repair-pump", "may: repair-pomp", "expectations.yaml:3:10", "no action on pumphall named 'repair-pomp'", "repair-pump"),
    ("expectations", "at: pumphall/west/pump-3", "at: pumphall/west", "expectations.yaml:3:10", "does not apply to a folder, only to: pump", "anywhere in"),
    ("expectations", "    may: repair-pump\n    at:", "    at:", "expectations.yaml:2:5", "do not make a sentence", "write one of"),
    ("expectations", "at most: 3", "at most: few", "expectations.yaml:15:14", "expected a whole number", ""),
    ("expectations", "group mechanics", "group mechanicks", "expectations.yaml:11:11", "no group 'mechanicks'", "mechanics"),
    ("pumphall", "    because: Everybody", "    when: {from network: 192.0.2.1/24}\n    because: Everybody", "pumphall.yaml:52:26", "is not a network", "192.0.2.0/24"),
    ("pumphall", "    because: Everybody", "    when: {time zone: Mars}\n    because: Everybody", "pumphall.yaml:52:23", "no time zone 'Mars'", ""),
    ("pumphall", "    because: Everybody", "    when: {days: someday}\n    because: Everybody", "pumphall.yaml:52:18", "found 'someday', expected a weekday", ""),
    ("pumphall", "    because: Everybody", "    when: {between: 22-06}\n    because: Everybody", "pumphall.yaml:52:21", "expected hours such as 22:00-06:00", ""),
    ("pumphall", "    because: Everybody", "    until: soon\n    because: Everybody", "pumphall.yaml:52:12", "expected a date such as 2026-12-31", ""),
    ("pumphall", "    because: Everybody", "    from: 2026-02-02\n    until: 2026-02-01\n    because: Everybody", "pumphall.yaml:53:12", "before it begins", ""),
    ("pumphall", "give: watcher", "deny: watcher", "pumphall.yaml:49:11", "pumphall knows no deny", "except the action"),
    ("pumphall", "give: watcher", "give: watcher\n    deny: mechanic", "pumphall.yaml:49:5", "either give or deny", ""),
    ("pumphall", "give: watcher", "give: bundle kit", "pumphall.yaml:49:5", "a bundle brings its own", ""),
    ("pumphall", "    at: pumphall\n", "", "pumphall.yaml:49:5", "a role needs a place", "at: SCOPE"),
    ("pumphall", "to: group staff", "to: local group crew", "pumphall.yaml:50:9", "no local group on pumphall named 'crew'", ""),
    ("pumphall", "unbound: closed", "unbound: open", "pumphall.yaml:6:12", "expected `closed` or `open with ROLE`", ""),
    ("pumphall", "unbound: closed", "unbound: open with wacher", "pumphall.yaml:6:12", "there is no role 'wacher'", "watcher"),
    ("pumphall", "unbound: closed", "sign-in: start-pump", "pumphall.yaml:6:12", "nobody can sign in", ""),
    ("pumphall", "unbound: closed", "on the way: sea-pump", "pumphall.yaml:6:15", "no action 'sea-pump'", "see-pump"),
    ("pumphall", "decides: any-allow", "decides: nearest", "pumphall.yaml:34:3", "has no resource groups", ""),
    ("pumphall", "gathers: [pumphall/east/pump-2, pumphall/west/pump-3]", "gathers where: {fuel: oil}", "pumphall.yaml:37:5", "there is no attribute 'fuel'", ""),
    ("pumphall", "gathers: [pumphall/east/pump-2, pumphall/west/pump-3]", "gathers where: {is: pomp}", "pumphall.yaml:37:5", "nothing fulfils what pumphall/diesel gathers", ""),
    ("pumphall", "\nbindings:", "\nceilings:\n  - {never: fly-*, to: group stuff, because: x}\n\nbindings:", "pumphall.yaml:49:13", "no action of pumphall matches 'fly-*'", ""),
    ("pumphall", "\nbindings:", "\nlocal groups:\n  own: {holds: [group stuff]}\n\nbindings:", "pumphall.yaml:49:17", "no group 'stuff'", "staff"),
    ("pumphall", "\nbindings:", "\npublished:\n  - {group: staff, to: pumphall/eest}\n\nbindings:", "pumphall.yaml:49:24", "no scope 'pumphall/eest'", "east"),
    ("expectations", "    at: pumphall/west/pump-3\n", "    at: pumphall/west/pump-3\n    in: storm\n", "expectations.yaml:5:9", "no situation 'storm'", ""),
    ("estate", "include:", "situations:\n  s: {address: here}\n\ninclude:", "estate.yaml:10:16", "found 'here', expected an IP address", ""),
    ("estate", "include:", "bundles:\n  kit: {holds: watcher}\n\ninclude:", "estate.yaml:10:16", "expected `ROLE at SCOPE`", ""),
    ("estate", "include:", "bundles:\n  kit: {holds: wacher at pumphall}\n\ninclude:", "estate.yaml:10:16", "no role on pumphall named 'wacher'", "watcher"),
    ("estate", "- pumphall.yaml", "- pumphill.yaml", "estate.yaml:10:5", "no file matches 'pumphill.yaml'", ""),
    ("estate", "- pumphall.yaml", "- ../pumphall.yaml", "estate.yaml:10:5", "no file matches", "stay in it"),
    ("estate", "Europe/Amsterdam", "Europe/Amsterdan", "estate.yaml:3:12", "no time zone", ""),
    ("estate", "ldif: people.ldif", "ldif: poeple.ldif", "estate.yaml:7:11", "the file 'poeple.ldif' cannot be read: there is no file", ""),
]  # fmt: skip


class WrongFilesTest(EstateTest):
    forked = True

    def findings(self, code: int = 2) -> list[str]:
        ran = self.lane("check --format json", code)
        return [f"{f['file']}:{f['line']}:{f['column']}: {f['message']} → {f['hint']}" for f in ran.json["findings"]]

    def test_each_mistake_is_named_with_its_place(self) -> None:
        from justlane.directories.interface import read_people
        from justlane.files.opening.load import load

        for stem, old, new, place, message, hint in BAD:
            if "groups only" in message:
                new, old = new, old
                self.pumphall(pumphall=(old, new))
                path = self.folder / "pumphall.yaml"
                path.write_text(path.read_text().replace("to: group staff", "to: user ben.ferry"))
            else:
                self.pumphall(**{stem: (old, new)})
            with self.subTest(new=new):
                loaded = load(self.folder, read_people)
                said = [f"{f.source}: {f.message} → {f.hint}" for f in loaded.findings]
                self.assertIsNone(loaded.estate)
                self.assertTrue(any(line.startswith(place) and message in line and hint in line.partition(" → ")[2] for line in said), said)

    def test_all_problems_come_in_one_run_and_one_does_not_hide_another(self) -> None:
        self.pumphall(
            pumphall=("allows: see-*", "alows: see-*"), expectations=("ben.ferry", "ben.fery"), people=("member: cn=mechanics", "member cn=mechanics")
        )
        said = self.findings()
        self.assertEqual([line.split(":")[0] for line in said], ["people.ldif", "pumphall.yaml"])
        self.pumphall(pumphall=("allows: see-*", "alows: see-*"), expectations=("ada.brook\n    may:", "ada.brook\n    mai:"))
        self.write({"expectations.yaml": (self.folder / "expectations.yaml").read_text().replace("ben.ferry", "ben.fery")})
        said = self.findings()
        self.assertEqual(len(said), 3, said)
        self.assertRegex(said[1], r"expectations.yaml:7:11: the directory has no user 'ben.fery' → did you mean ben.ferry")

    def test_the_human_form_cites_file_line_and_column(self) -> None:
        self.pumphall(pumphall=("group staff", "group stuff"))
        ran = self.lane("check", 2)
        self.assertRegex(
            ran.out, r"^pumphall.yaml:50:9: error: the directory has no group 'stuff'  \(unknown-name\)\n      to: group stuff\n    → did"
        )
        ran = self.lane("ask ada.brook see-pump pumphall", 2)
        self.assertRegex(ran.err, r"pumphall.yaml:50:9: error: .*\n.*\nerror: the estate has 1 error")

    def test_files_that_are_hardly_files(self) -> None:
        bomb = "bindings: &a [x, x, x, x, x, x, x, x, x, x]\n" + "".join(
            f"k{n}: &{chr(98 + n)} [{', '.join(['*' + chr(97 + n)] * 10)}]\n" for n in range(8)
        )
        for _, content, place, message in (
            ("bindings", b"", "bindings.yaml:1:1", "the file is empty"),
            ("bindings", b"# only a comment\n", "bindings.yaml:1:1", "the file is empty"),
            ("bindings", b"bindings:\n  - give: \xff\n", "bindings.yaml:2:11", "found the byte 0xff, expected UTF-8"),
            ("bindings", "bindings: []\n".encode("utf-16"), "bindings.yaml:1:1", "found a UTF-16 file"),
            ("bindings", b"bindings: []\x00\n", "bindings.yaml:1:1", "control character"),
            ("bindings", bomb.encode(), "bindings.yaml", "more than 10,000 values"),
            ("bindings", b"bindings: &x [*x]\n", "bindings.yaml:1:11", "inside the value that it names"),
            ("bindings", b"[" * 5000, "bindings.yaml", ""),
            ("bindings", b"- a list\n", "bindings.yaml:1:1", "expected a mapping"),
            ("bindings", b"rolls: {}\n", "bindings.yaml:1:1", "none of the keys"),
            ("bindings", b"bindings: []\n---\nbindings: []\n", "bindings.yaml:2:1", "not YAML"),
            ("bindings", b"bindings:\n\t- give: x\n", "bindings.yaml:2:1", "not YAML"),
        ):
            with self.subTest(content=content[:30]):
                self.pumphall(estate=("- expectations.yaml", "- bindings.yaml"))
                self.write({"bindings.yaml": content})
                said = self.findings()
                self.assertTrue(said[0].startswith(place) and message in said[0], said)

    def test_both_parsers_see_the_same_values_places_and_mistakes(self) -> None:
        sample = [path.read_text() for path in sorted(DEMO.rglob("*.yaml"))]
        dice = random.Random(7)
        for _ in range(400):
            lines = dice.choice(sample).splitlines(keepends=True)
            start = dice.randrange(len(lines))
            text = "".join(lines[start : start + dice.randrange(1, 12)])
            for _ in range(dice.randrange(4)):
                at = dice.randrange(len(text) + 1)
                text = text[:at] + dice.choice(SCRAPS) + text[at + dice.choice((0, 0, 0, 1, 4)) :]
            self.write({"some.yaml": text})
            either = read(self.folder, "some.yaml")
            with mock.patch.object(yamlnodes, "_by_libyaml", return_value=[]):
                self.assertEqual(read(self.folder, "some.yaml"), either, repr(text))

    def test_no_estate_at_all(self) -> None:
        ran = self.run_lane("check", "--estate", str(self.top / "nowhere"))
        self.assertEqual((ran.code, "--estate: there is no folder" in ran.err), (2, True))
        ran = self.run_lane("check")
        self.assertEqual((ran.code, "holds no estate.yaml" in ran.err), (2, True))

    def test_warnings_alone_end_with_1(self) -> None:
        self.pumphall(people=("uid: ben.ferry", "uid: ben.ferry\nloginDisabled: TRUE"))
        self.write({"pumphall.yaml": PUMPHALL["pumphall.yaml"].replace("group staff", "user ben.ferry")})
        said = self.findings(1)
        self.assertIn("user ben.ferry, whose account is disabled, is expected not to", said[0])
        self.assertIn("watcher is given to user ben.ferry, whose account is disabled", said[1])
        self.assertRegex(self.lane("check", 1).out, "sound, with warnings .* 0 errors, 2 warnings")


class SchemaTest(unittest.TestCase):
    def test_the_shipped_estates_fit_the_schemas_and_a_misspelt_key_does_not(self) -> None:
        kinds = {"estate": "estate", "platform": "platform", "roles for": "roles"}
        known = schemas()
        for path in DEMO.rglob("*.yaml"):
            value = read(path.parent, path.name).value
            assert isinstance(value, dict)
            kind = next((kinds[key] for key in kinds if key in value), next(iter(value)))
            schema = known[f"{kind}.schema.json"]
            jsonschema.Draft202012Validator.check_schema(schema)
            loose = json.loads(re.sub(r'"type": "(integer|boolean|number)"', '"type": "string"', json.dumps(schema)))
            jsonschema.validate(value, loose)
            with self.assertRaises(jsonschema.ValidationError):
                jsonschema.validate({**value, "colour": "red"}, loose)


class CacheTest(EstateTest):
    forked = True

    def test_an_unchanged_estate_is_not_read_again_and_a_changed_one_is(self) -> None:
        self.pumphall()
        ask = "ask ben.ferry repair-pump pumphall/west/pump-3"
        self.lane(ask, 1)
        kept = next((self.top / "cache").rglob("*.sqlite"))
        before = kept.read_bytes()
        self.lane(ask, 1)
        self.assertEqual(kept.read_bytes(), before)
        self.pumphall(people=("member: uid=ada", "member: uid=ben.ferry,ou=people,dc=pumphall,dc=example\nmember: uid=ada"))
        self.lane(ask, 0)
        self.write({"estate.yaml": PUMPHALL["estate.yaml"].replace("- expectations.yaml", "- exp*.yaml")})
        self.lane(ask, 0)
        self.write({"expectations-2.yaml": "bindings: [{give: nothing}]\n"})
        self.lane(ask, 2)

    def test_a_damaged_cache_is_no_reason_to_fail(self) -> None:
        self.pumphall()
        self.lane("verify")
        kept = next((self.top / "cache").rglob("*.sqlite"))
        whole = kept.read_bytes()
        for damage in (b"", b"\x00" * 40, whole[: len(whole) // 2], whole[:4096] + b"\xff" * (len(whole) - 4096)):
            kept.write_bytes(damage)
            self.lane("verify")
            self.assertEqual(len(kept.read_bytes()), len(whole), "it was made again")
        kept.write_bytes(whole.replace(b"ada.brook", b"ada\xffbrook"))
        ran = self.run_lane("ask", "ada.brook", "see-pump", "pumphall")
        self.assertIn((ran.code, "has been thrown away" in ran.err), {(3, True), (2, False), (0, False)})
        kept.unlink(missing_ok=True)
        self.lane("ask ada.brook see-pump pumphall")
        self.assertEqual(named_files.digest(self.top, "nowhere"), "")


class StoreTest(EstateTest):
    def test_a_kept_estate_is_the_estate_and_answers_alike(self) -> None:
        self.saltmarsh()
        index = self.index()
        self.lane("people pull")
        people = open_snapshot(self.folder, newest(self.folder))
        path = self.top / "kept?#%.sqlite"
        write(path, b"in front", index.estate, {"one.yaml": b"two parts"})
        store = Store(Tables(path, (SCRIPT,)))
        self.assertEqual([store.head(), store.cut("one.yaml"), store.cut("other.yaml")], [b"in front", b"two parts", b""])
        self.assertEqual(people.whole(), index.estate.directory)
        nobody = Directory({}, {})
        self.assertEqual(store.whole(), replace(index.estate, directory=nobody, people=index.estate.people))
        kept = EstateIndex(replace(store.estate(), directory=people.directory()), store, people.groups_with)
        asked = Question(datetime(2026, 11, 25, 12, tzinfo=UTC))
        for user in ("imke.vos", "yara.flint", "dana.brine", "hedda.crane", "svc-nightly", "anonymous"):
            self.assertEqual(reach(kept, user, asked), reach(index, user, asked))
            for name, platform in index.estate.platforms.items():
                for scope in list(platform.scopes)[::61]:
                    for action in platform.actions:
                        self.assertEqual(reply(kept, user, action, scope, asked), reply(index, user, action, scope, asked), name)

    def test_the_oldest_estates_make_room(self) -> None:
        self.pumphall()
        self.lane("check")
        cache_folder = self.top / "cache" / "justlane"
        for age, name in enumerate(["f" * 20, "e" * 20, "d" * 20]):
            (cache_folder / f"{name}.sqlite").write_bytes(bytes(1000))
            os.utime(cache_folder / f"{name}.sqlite", (1e9 - age, 1e9 - age))
        path = self.folder / "estate.yaml"
        path.write_text(path.read_text() + "# another\n")
        used = sum(p.stat().st_size for p in cache_folder.iterdir())
        with mock.patch.dict(os.environ, self.environment), mock.patch.object(cache, "MOST_BYTES", used - 1500):
            cache.keep(self.folder, load(self.folder, read_people))
        self.assertEqual(sorted(p.stem[:1] for p in cache_folder.iterdir() if p.stem[0] in "def" and len(set(p.stem)) == 1), ["f"])
        self.assertIn("sound", self.lane("check").out)

    def test_its_tables_behave_as_mappings(self) -> None:
        self.saltmarsh()
        estate = self.index().estate
        write(self.top / "kept.sqlite", b"", estate, {})
        self.lane("people pull")
        store = Store(Tables(self.top / "kept.sqlite", (SCRIPT,)))
        directory = open_snapshot(self.folder, newest(self.folder)).directory()
        self.assertEqual(list(directory.users), list(estate.directory.users))
        self.assertEqual(dict(directory.groups.items()), estate.directory.groups)
        self.assertEqual({name: directory.groups[name] for name in directory.groups}, estate.directory.groups)
        self.assertEqual(len(directory.groups), 15)
        self.assertNotIn("nobody", directory.users)
        self.assertNotIn("nobody", directory.groups)
        scopes = store.estate().platforms["siltstore"].scopes
        self.assertEqual(list(scopes), list(estate.platforms["siltstore"].scopes))
        self.assertNotIn("fieldnet/north", scopes, "of another platform")
        on = store.bindings_on("sourcebank")
        self.assertEqual(len(list(on)), 5)
        self.assertIs(on.at("sourcebank/models/secrets")[0], list(on)[3], "the same binding is the same object")
        self.assertEqual([on.place(b) for b in on], sorted(on.place(b) for b in on))
        self.assertEqual(set(on.principals()), {b.principal for b in on})

    def test_a_large_file_counts_as_changed_when_the_system_says_so(self) -> None:
        large = self.top / "large"
        large.write_bytes(b"x" * (named_files.LARGE + 1))
        before = named_files.digest(self.top, "large")
        self.assertEqual(named_files.digest(self.top, "large"), before)
        large.write_bytes(b"y" * (named_files.LARGE + 1))
        self.assertNotEqual(named_files.digest(self.top, "large"), before)
