"""Fewer lines that say the same: no cell changes, and no choice weighs less, by another program over all single cells."""

from __future__ import annotations

import json
import random
import shutil
import unittest
from collections import Counter
from datetime import UTC, datetime
from itertools import combinations
from typing import Any

import numpy as np
from benchmarks.grown import write
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st
from msgspec.structs import replace
from scipy.optimize import Bounds, LinearConstraint, milp

from justlane.directories.interface import read_people
from justlane.engine.changes.comparison import Side, compare, differences
from justlane.engine.decision.judge import Question
from justlane.engine.facts.index import EstateIndex
from justlane.engine.facts.membership import group, user
from justlane.engine.regrouping.cover import lightest_cover
from justlane.engine.regrouping.holdings import cannot_regroup
from justlane.engine.regrouping.proposals import Regrouped, Weights, regroup
from justlane.files.editing.draft import Draft
from justlane.files.editing.regrouping import put_differently
from justlane.files.opening.load import load
from justlane.jobs.regrouping import taken
from justlane.model.bindings import Binding
from justlane.model.circumstances import ALWAYS
from justlane.model.estate import Decides, Estate
from justlane.model.findings import Source
from justlane.model.people import Principal, PrincipalKind
from tests.drawing import estates
from tests.support import EstateTest
from tests.test_rules import FILES, PEOPLE
from tests.test_tidying import in_yaml, lines
from tests.writing import made_sound

NOW = Question(datetime(2026, 12, 2, 12, tzinfo=UTC))


def put(estate: Estate, found: Regrouped, which: slice = slice(None)) -> Estate:
    """The estate after some of the proposals."""
    gone = {id(b) for one in found.proposals[which] for b in one.going}
    new = [Binding(*line, "drawn", Source("new.yaml", 1)) for one in found.proposals[which] for line in one.give]
    return replace(estate, bindings=(*(b for b in estate.bindings if id(b) not in gone), *new))


class CoverTest(unittest.TestCase):
    def test_no_choice_is_lighter_as_trying_all_of_them_says(self) -> None:
        for seed in range(400):
            dice = random.Random(seed)
            rows, count = dice.randint(1, 8), dice.randint(1, 9)
            sets = [set(dice.sample(range(rows), dice.randint(0, rows))) for _ in range(count)]
            weights, ties = [dice.randint(1, 4) for _ in sets], [dice.randint(0, 2) for _ in sets]
            every = set().union(*sets)

            def cost(some: tuple[int, ...] | list[int], weights: list[int] = weights, ties: list[int] = ties) -> tuple[int, int]:
                return sum(weights[n] for n in some), sum(ties[n] for n in some)

            all_choices = (some for size in range(count + 1) for some in combinations(range(count), size))
            best = min(cost(some) for some in all_choices if set().union(*(sets[n] for n in some)) == every)
            found = lightest_cover(sets, weights, ties)
            self.assertEqual(set().union(*(sets[n] for n in found.chosen)), every)
            self.assertEqual((cost(found.chosen), found.bound), (best, best[0]), seed)


class RegroupTest(unittest.TestCase):
    @settings(max_examples=120, deadline=None, suppress_health_check=list(HealthCheck))
    @given(estates(Decides.ANY_ALLOW))
    def test_on_drawn_estates_no_cell_changes_and_no_choice_weighs_less(self, estate: Estate) -> None:
        estate = made_sound(estate)
        estate = replace(estate, platforms={n: replace(p, habits=replace(p.habits, open_role="")) for n, p in estate.platforms.items()})
        index = EstateIndex(estate)
        for name in estate.platforms:
            if cannot_regroup(index.platform(name)):
                continue
            found = regroup(index, name, NOW, Weights(2, 3))
            for which in (slice(None), slice(0, 1), slice(1, None)):
                after = EstateIndex(put(estate, found, which))
                self.assertEqual(differences((index, after), NOW).found, [])
            least = lightest_over_cells(index, name, Weights(2, 3))
            self.assertEqual((found.weight, found.bound), (least, least))

    @settings(max_examples=60, deadline=None, suppress_health_check=list(HealthCheck))
    @given(estates(Decides.ANY_ALLOW), st.integers(1, 4))
    def test_what_may_be_gained_is_named_counted_and_never_sensitive(self, estate: Estate, gaining: int) -> None:
        estate = made_sound(estate)
        estate = replace(estate, platforms={n: replace(p, habits=replace(p.habits, open_role="")) for n, p in estate.platforms.items()})
        index = EstateIndex(estate)
        for name in estate.platforms:
            if cannot_regroup(index.platform(name)):
                continue
            exact, found = regroup(index, name, NOW), regroup(index, name, NOW, gaining=gaining)
            self.assertLessEqual(found.weight, exact.weight)
            changed = differences((index, EstateIndex(put(estate, found))), NOW)
            named = [gain for one in found.proposals for gain in one.gaining]
            self.assertEqual((changed.totals.lost, list(changed.sensitive)), (0, []))
            self.assertLessEqual(set(changed.people), {login for login, _ in named})
            self.assertLessEqual(changed.totals.gained, sum(cells for _, cells in named))


class WrittenTest(EstateTest):
    forked = True

    def read(self) -> EstateIndex:
        loaded = load(self.folder, read_people)
        assert loaded.estate is not None, loaded.findings
        return loaded.ready

    @settings(max_examples=40, deadline=None, suppress_health_check=list(HealthCheck))
    @given(lines, st.sampled_from(["any-allow", "deny-wins"]), st.data())
    def test_lines_with_lists_keep_what_does_not_go(self, drawn: list[dict[str, Any]], decides: str, data: st.DataObject) -> None:
        if decides == "any-allow":
            drawn = [{**one, "deny": False} for one in drawn]
        platform = FILES["hall.yaml"].replace("decides: deny-wins", f"decides: {decides}")
        text = platform[: platform.index("bindings:")] + in_yaml(drawn)
        self.write({"estate.yaml": FILES["estate.yaml"], "people.ldif": PEOPLE, "hall.yaml": text})
        before = self.read()
        found = regroup(before, "hall", Question(datetime.now(UTC)))
        numbers = st.lists(st.integers(1, len(found.proposals)), max_size=2) if found.proposals else st.just([])
        wanted = taken(found, data.draw(numbers))
        draft = Draft(self.folder)
        put_differently(draft, before, wanted)
        for change in draft.changes:
            (self.folder / change.file).write_bytes(change.after)
        after = self.read()
        self.assertEqual(compare(Side("before", before), Side("after", after), Question(datetime.now(UTC))).groups, ())
        words = [sorted((str(b.principal), b.role, b.scope) for b in index.platform("hall").bindings) for index in (before, after)]
        gone = [(str(b.principal), b.role, b.scope) for one in wanted for b in one.going]
        new = [(str(to), role, scope) for one in wanted for to, role, scope in one.give]
        self.assertEqual(sorted([*(Counter(words[0]) - Counter(gone)).elements(), *new]), words[1])

    def test_what_has_grown_is_put_in_order_proved_written_and_taken_back(self) -> None:
        grown = write(self.folder, 60, 3)
        content = (self.folder / "bindings.yaml").read_bytes()
        shown = self.run_lane("regroup", "board", "--format", "json")
        found = json.loads(shown.out)
        self.assertEqual(shown.code, 1)
        self.assertLessEqual(found["weight"], grown.weight)
        self.assertEqual(found["weight"], found["bound"])
        self.assertEqual(
            found["before"]["lines"]
            - sum(len(one["in_place_of"]) for one in found["proposals"])
            + sum(len(one["give"]) for one in found["proposals"]),
            found["after"]["lines"],
        )
        shutil.copytree(self.folder, self.top / "other")
        self.assertIn("proposal,what,role,to,scope,line", self.run_lane("regroup", "board", "--format", "csv").out)
        self.assertEqual(self.run_lane("regroup", "board", "--take", "9999").code, 2)
        self.assertEqual(self.run_lane("regroup", "board", "--take", "first").code, 2)
        one = self.run_lane("regroup", "board", "--take", "1", "--yes")
        self.assertIn("saved, as edit 1", one.err, one.err)
        self.assertEqual(self.run_lane("regroup", "board", "--take", "all", "--dry-run").code, 1)
        self.assertEqual(self.run_lane("regroup", "board", "--take", "all", "--yes").code, 0)
        self.assertEqual(self.run_lane("compare", str(self.top / "other")).code, 0)
        more = self.run_lane("regroup", "board", "--gaining", "15", "--take", "all", "--dry-run", "--format", "json")
        self.assertEqual((more.code, json.loads(more.out)["effect"]["lost"]), (1, 0))
        again = self.run_lane("regroup", "board", "--format", "json")
        self.assertEqual((again.code, json.loads(again.out)["proposals"], json.loads(again.out)["weight"]), (0, [], found["weight"]))
        for _ in range(2):
            self.assertEqual(self.run_lane("undo", "--yes").code, 0)
        self.assertEqual((self.folder / "bindings.yaml").read_bytes(), content)

    def test_where_a_line_means_something_only_beside_others_it_says_so(self) -> None:
        self.saltmarsh()
        for platform in ("sourcebank", "siltstore", "quayside", "fieldnet"):
            ran = self.run_lane("regroup", platform)
            self.assertEqual((ran.code, "cannot be put differently" in ran.err), (2, True), platform)


def lightest_over_cells(index: EstateIndex, name: str, weights: Weights) -> int:
    """The least weight of lines, from all that could be written, over single cells (person, action, place)."""
    prepared = index.platform(name)
    platform, directory = prepared.platform, index.estate.directory
    active = [u.login for u in directory.users.values() if u.enabled and (u.last_day is None or u.last_day >= NOW.dated.date())]

    def cells(principal: Principal, role: str, scope: str) -> set[tuple[str, str, str]]:
        if principal.kind is PrincipalKind.LOCAL_GROUP:
            return {c for m in platform.local_groups[principal.name].members for c in cells(m.member, role, scope)}
        here = [p for p in platform.scopes if scope in prepared.coverage.covering_set(p)]
        people = (
            active if principal.kind is PrincipalKind.AUTHENTICATED else [u for u in active if principal in index.membership.principals_of(user(u))]
        )
        return {(u, a, p) for u in people for a in prepared.roles.holdings(role) for p in here if prepared.applies(a, p)}

    limited = {n for n, local in platform.local_groups.items() if any(m.last_day for m in local.members)}
    innermost = {p for p, s in platform.scopes.items() if not s.gathers and not any(q.startswith(f"{p}/") for q in platform.scopes)}
    plain = [b for b in prepared.bindings if b.allows and b.condition == ALWAYS and b.principal.kind is not PrincipalKind.ANONYMOUS]
    plain = [b for b in plain if not b.here_only or b.scope in innermost]
    counted = [b for b in plain if not (b.principal.kind is PrincipalKind.LOCAL_GROUP and b.principal.name in limited)]
    if platform.habits.publication:
        counted = [b for b in counted if b.principal.kind is not PrincipalKind.GROUP]
    free = [b for b in counted if not (b.built_in or b.bundle or b.pattern) and b.principal.kind is not PrincipalKind.AUTHENTICATED]
    stay = {c for b in counted if b not in free for c in cells(b.principal, b.role, b.scope)}
    wanted = sorted({c for b in free for c in cells(b.principal, b.role, b.scope)} - stay)
    allowed = stay | set(wanted)
    principals = [Principal(PrincipalKind.LOCAL_GROUP, n) for n in platform.local_groups if n not in limited]
    principals += (
        [user(u) for u in active] if any(b.principal.kind is PrincipalKind.USER for b in free) or platform.habits.binds.value != "groups only" else []
    )
    principals += [group(g) for g in directory.groups] if not platform.habits.publication else []
    rows = {cell: n for n, cell in enumerate(wanted)}
    columns = [(p, cells(p, r, s)) for p in principals for r in platform.roles for s in platform.scopes]
    columns = [(p, some) for p, some in columns if some <= allowed and some & rows.keys()]
    if not wanted:
        return 0
    table = np.zeros((len(rows), len(columns)))
    for place, (_, some) in enumerate(columns):
        table[[rows[c] for c in some if c in rows], place] = 1
    cost = np.array([weights.line + weights.person * (p.kind is PrincipalKind.USER) for p, _ in columns])
    solved = milp(cost, constraints=LinearConstraint(table, lb=1), integrality=np.ones(len(columns)), bounds=Bounds(0, 1))
    least: int = round(solved.fun)
    return least


class NewGroupsTest(EstateTest):
    def test_they_are_written_for_the_owners_of_the_directory(self) -> None:
        self.write({
            "estate.yaml": "estate: S\nfor: x.\ntime zone: UTC\ndirectories: {office: {ldif: people.ldif}}\ninclude: [hall.yaml]\n",
            "people.ldif": "".join(f"dn: uid={p},dc=s\nobjectClass: inetOrgPerson\nuid: {p}\ncn: {p}\nentryUUID: id-{p}\n\n" for p in "abcde")
            + "dn: cn=crew,dc=s\nobjectClass: groupOfNames\ncn: crew\ndescription: x.\n" + "".join(f"member: uid={p},dc=s\n" for p in "abcd"),
            "hall.yaml": "platform: hall\nhabits: {decides: any-allow}\nactions: {see: {applies to: [room]}}\nscopes: {r1: room, r2: room, r3: room, r4: room}\n"
            "roles: {viewer: {for: x., allows: see}}\nbindings:\n"
            "  - {give: viewer, to: [user a, user b, user c], at: [hall/r1, hall/r2, hall/r3], because: x}\n",
        })  # fmt: skip
        found = self.lane("regroup hall --new-groups asked.csv --format json").json["new_groups"]
        self.assertEqual([(one["name"], one["users"]) for one in found], [("crew-viewer", ["a", "b", "c"])])
        self.assertEqual((self.top / "asked.csv").read_text().splitlines()[1].split(",")[0], "crew-viewer")
        asked = json.loads(self.asked("json"))["Operations"][0]
        self.assertEqual((asked["method"], asked["path"], asked["data"]["displayName"]), ("POST", "/Groups", "crew-viewer"))
        self.assertEqual([member["value"] for member in asked["data"]["members"]], ["id-a", "id-b", "id-c"])
        record = self.asked("ldif", "--under", "dc=s", "--people-under", "dc=s")
        self.assertIn("dn: cn=crew-viewer,dc=s\nchangetype: add\nobjectClass: groupOfNames\n", record)
        self.assertIn("where groups and people are", self.run_lane("regroup", "hall", "--new-groups", "x.ldif").err)
        self.assertIn("ends in .csv", self.run_lane("regroup", "hall", "--new-groups", "x.doc").err)
        # carried out as it is written, the group is read and carries the lines
        people = self.folder / "people.ldif"
        made = record.partition("\n\n")[2].replace("changetype: add\n", "")
        people.write_text(f"{people.read_text()}\n{made}")
        shown = self.lane("regroup hall", 1).out
        self.assertIn("+ viewer to group crew-viewer at hall/r1", shown)

    def asked(self, ending: str, *words: str) -> str:
        ran = self.run_lane("regroup", "hall", "--new-groups", f"asked.{ending}", *words)
        self.assertEqual(ran.code, 0, ran)
        return (self.top / f"asked.{ending}").read_text()
