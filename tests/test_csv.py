"""Pairs of tables as spreadsheets export them, and tables that are damaged."""

from __future__ import annotations

import csv
import io
import tempfile
import unittest
from pathlib import Path
from typing import Any

from hypothesis import given, settings
from hypothesis import strategies as st

from justlane.directories.interface import read_people
from justlane.directories.table_pair import TableError, rows
from justlane.files.reading.directory_shapes import DirectoryShape
from tests.support import EstateTest

PEOPLE = "login,name,enabled\na,Zoë Marram,yes\nb,Bo,no\n"
GROUPS = "group,member,for\ncrew,a,Sails\nall,group crew,\nall,b,Everybody\n"
CSV = {"people": "people.csv", "memberships": "groups.csv"}
ESTATE = "estate: Tables\nfor: Tests.\ntime zone: UTC\ndirectories:\n  office:\n    csv: {people: people.csv, memberships: groups.csv}\n"


def read(people: str | bytes, groups: str | bytes, **more: Any) -> tuple[dict[str, Any], list[str]]:
    """Names, states and members; and what was found wrong."""
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        for file, content in (("people.csv", people), ("groups.csv", groups)):
            (folder / file).write_bytes(content if isinstance(content, bytes) else content.encode())
        intake = read_people("office", DirectoryShape.model_validate({"csv": {**CSV, **more}}), folder)
    edges = intake.edges()
    members = [intake.logins[m] if m >= 0 else f"group {intake.group_names[-m - 1]}" for m in edges.members]
    held = [(intake.group_names[g], m, line) for g, m, line in zip(edges.groups, members, edges.lines, strict=True)]
    people_ = list(zip(intake.logins, intake.names, map(bool, intake.enabled), strict=True))
    return {"people": people_, "purposes": intake.purposes, "held": held}, [f"{f.source} {f.message}" for f in intake.findings]


class TablesTest(unittest.TestCase):
    def test_the_same_in_every_form_that_spreadsheets_export(self) -> None:
        expected, wrong = read(PEOPLE, GROUPS)
        self.assertEqual(wrong, [])
        self.assertEqual(expected["people"], [("a", "Zoë Marram", True), ("b", "Bo", False)])
        self.assertEqual(expected["held"], [("crew", "a", 2), ("all", "group crew", 3), ("all", "b", 4)])
        self.assertEqual(expected["purposes"], ["Sails", "Everybody"])
        for people, groups in (
            (PEOPLE.replace(",", ";"), GROUPS.replace(",", "\t")),
            ("\ufeff" + PEOPLE, "\ufeff" + GROUPS.replace("\n", "\r\n")),
            (PEOPLE.encode("utf-16"), GROUPS),
            (PEOPLE.replace("login,name", " Login ,NAME") + ",,\n\n", GROUPS),
            ('"login";"name";"enabled"\n"a";"Zoë Marram";"TRUE"\n"b";"Bo";"Disabled"\n', GROUPS.rstrip("\n")),
        ):
            self.assertEqual(read(people, groups), (expected, []))
        found, _ = read("sep=|\nlogin|name\na|Zoë Marram\nb|Bo\n", GROUPS)
        self.assertEqual(found["people"][1], ("b", "Bo", True))

    def test_a_cell_over_several_lines_does_not_shift_the_line_numbers(self) -> None:
        groups = 'group;member;for\ncrew;a;"Sails;\n""far"" and\nwide"\nall;b;\n'
        found, wrong = read(PEOPLE, groups)
        self.assertEqual((found["purposes"], wrong), (['Sails; "far" and wide', ""], []))
        self.assertEqual(found["held"], [("crew", "a", 2), ("all", "b", 5)])

    def test_columns_of_other_names(self) -> None:
        columns = {"login": "Account", "enabled": "Active", "id": "Number", "group": "Team", "member": "Who"}
        found, wrong = read("ACCOUNT;active;number\nx;0;77\n", "who;team\nx;crew\n", columns=columns)
        self.assertEqual((found["people"], found["held"], wrong), ([("x", "x", False)], [("crew", "x", 2)], []))

    def test_damage_is_an_error_with_its_line(self) -> None:
        for people, groups, told in (
            ("", GROUPS, "people.csv the table is empty"),
            ("user,name\na,A\n", GROUPS, "people.csv:1:1 there is no column 'login', only: user, name"),
            ("login,name\na\n", GROUPS, "people.csv:2:1 found 1 cells, expected 2"),
            ("login,name\na,A,x\n", GROUPS, "people.csv:2:1 found 3 cells, expected 2"),
            ('login,name\na,"A\nb,B\n', GROUPS, "people.csv:2:1 this row cannot be read"),
            ("login,name\n,A\n", GROUPS, "people.csv:2:1 the column 'login' is empty here"),
            ("login,enabled\na,perhaps\n", GROUPS, "people.csv:2:1 found 'perhaps' in the column 'enabled', expected yes or no"),
            ("login\na\nb\na\n", GROUPS, "people.csv:4:1 there is a second user named 'a'"),
            (b"login\na\n\xff\n", GROUPS, "people.csv:3:1 found bytes that are not UTF-8"),
            (PEOPLE, "group,who\ncrew,a\n", "groups.csv:1:1 there is no column 'member'"),
            (PEOPLE, "group,member\n,a\n", "groups.csv:2:1 the column 'group' is empty here"),
            (PEOPLE, "group,member\ncrew,nobody\n", "groups.csv:2:1 the member 'nobody' is neither a user nor a group"),
            (PEOPLE, "group,member\ncrew,group crews\n", "groups.csv:2:1 the member 'group crews' is neither"),
        ):  # fmt: skip
            with self.subTest(told):
                _, wrong = read(people, groups)
                self.assertTrue(any(w.startswith(told) for w in wrong), wrong)

    @settings(max_examples=200, deadline=None, derandomize=True)
    @given(st.binary(max_size=80))
    def test_nothing_at_all_makes_it_stumble(self, content: bytes) -> None:
        try:
            list(rows(content, ["a"]))
        except TableError as error:
            self.assertGreaterEqual(error.line, 0)

    @settings(max_examples=200, deadline=None, derandomize=True)
    @given(st.lists(st.tuples(st.text(min_size=1), st.text()), max_size=5), st.sampled_from(";,\t"))
    def test_what_was_written_is_read(self, written: list[tuple[str, str]], separator: str) -> None:
        out = io.StringIO(newline="")
        csv.writer(out, delimiter=separator).writerows([("login", "name"), *written])
        if "\r" in out.getvalue().replace("\r\n", "") or "\x00" in out.getvalue():
            return
        try:
            found = [(row.cells["login"], row.cells["name"]) for row in rows(out.getvalue().encode(errors="replace"), ["login"])]
        except TableError:
            self.fail(repr(out.getvalue()))
        expected = [(a.strip(), b.strip()) for a, b in written if a.strip() or b.strip()]
        self.assertEqual(found, [(a.encode(errors="replace").decode(), b.encode(errors="replace").decode()) for a, b in expected])


class CommandTest(EstateTest):
    def test_an_answer_cites_a_row(self) -> None:
        self.pumphall(estate=("ldif: people.ldif", "csv: {people: people.csv, memberships: teams.csv}"))
        self.write({
            "people.csv": "\ufefflogin;name\nada.brook;Ada\nben.ferry;Ben\n",
            "teams.csv": "group;member;for\nmechanics;ada.brook;Repairs.\nstaff;group mechanics;All\nstaff;ben.ferry;\n",
        })  # fmt: skip
        said = self.lane("ask ada.brook see-pump pumphall/east/pump-1").out
        self.assertIn("teams.csv:2", said)
        self.assertIn("teams.csv:3", said)
        (self.folder / "teams.csv").unlink()
        ran = self.lane("check", 2)
        self.assertIn("the file 'teams.csv' cannot be read: there is no file", ran.out)
        self.assertIn("estate.yaml:7:44", ran.out)
