"""Everything that the page of an estate shows, as plain values."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from datetime import datetime
from typing import Any

from msgspec import Struct

from justlane.engine.changes.comparison import Comparison
from justlane.engine.chart_numbers.in_hands import in_hands
from justlane.engine.classes.people_by_name import PeopleByName
from justlane.engine.decision.judge import Question
from justlane.engine.facts.clock import on_clock
from justlane.engine.facts.index import EstateIndex
from justlane.engine.questions.administrators import administrators
from justlane.engine.questions.expectations import Verdict
from justlane.engine.questions.one_person_or_group import purposes_in
from justlane.engine.surveys.glance import Glance, glance
from justlane.model.bindings import Binding
from justlane.model.estate import Platform
from justlane.model.names import counted, some_of
from justlane.model.people import ANONYMOUS, AUTHENTICATED, Principal, PrincipalKind
from justlane.reports.checks.checked import Checked
from justlane.reports.page.habits_in_words import in_words
from justlane.reports.parts.conditions import condition_text

_MOST_GLANCE = 60
_MOST_CHANGES = 200


class Probed(Struct, frozen=True):
    """A result of `justlane probe`, in words."""

    said: str
    differences: tuple[str, ...]


def probed(told: Mapping[str, Any]) -> Probed:
    """What `justlane probe --format json` wrote. KeyError, TypeError or ValueError if it is something else."""
    differences = [
        f"{d['user']} {d['action']} at {d['scope']}: declared {_word(d['declared'])}, says {_word(d['says'])}, "
        f"trying gives {_word(d['does'])}"
        for d in told["differences"]
    ]
    differences += [f"{login} cannot sign in" for login in told["kept_out"]]
    differences += [f"{login} can sign in, and should not" for login in told["let_in"]]
    differences += [f"{s['user']} is shown something else at {s['scope']}" for s in told["shown_wrongly"]]
    counts = f"{int(told['people']):,} people, {int(told['asked']):,} asked, {int(told['tried']):,} tried"
    said = f"{told['platform']}: {counts}; {counted(len(differences), 'difference')}"
    return Probed(said, tuple(differences[:_MOST_CHANGES]))


def _word(value: object) -> str:
    return "nothing" if value is None else "yes" if value else "no"


class ReportPage(Struct, frozen=True):
    """What is shown."""

    index: EstateIndex
    moment: datetime
    checked: Checked
    verdicts: tuple[Verdict, ...]
    probes: tuple[Probed, ...]
    """Results of `justlane probe` that were named."""
    changes: Comparison | None
    """Since an earlier state; None if nobody named one."""


def values_of(page: ReportPage) -> dict[str, Any]:
    """All that the template shows."""
    index, estate = page.index, page.index.estate
    asked = Question(page.moment)
    groups = glance(index, list(estate.platforms), asked, of_groups=True)
    return {
        "estate": estate,
        "made": f"{on_clock(page.moment, estate.time_zone):%Y-%m-%d %H:%M} ({estate.time_zone})",
        "people_read": f"{on_clock(estate.people.taken, estate.time_zone):%Y-%m-%d %H:%M}" if estate.people else "",
        "summary": page.checked.summary,
        "checked": page.checked,
        "findings": [_finding(page.checked, flaw) for flaw in page.checked.flaws],
        "accepted": [
            {**_finding(page.checked, flaw), "because": one.reason, "until": one.last_day.isoformat()}
            for flaw, one in page.checked.accepted
        ],
        "glance": _glance(groups),
        "platforms": [_platform(index, platform, asked) for platform in estate.platforms.values()],
        "roles": [role for platform in estate.platforms.values() for role in _roles(index, platform)],
        "groups": _groups(index),
        "verdicts": [
            {"sentence": v.sentence, "holds": v.holds, "line": v.expectation.source.line_address,
             "facts": [e.fact for e in v.evidence][:20]}
            for v in page.verdicts
        ],
        "probes": page.probes,
        "changes": _changes(page.changes) if page.changes else None,
        "counts": {
            "people": len(estate.directory.users),
            "grants": sum(1 for _ in estate.bindings),
            "scopes": sum(len(p.scopes) for p in estate.platforms.values()),
        },
    }  # fmt: skip


def data_of(index: EstateIndex, moment: datetime) -> dict[str, Any]:
    """What the page's script looks things up in: principals, grants, people and places, each named by its number."""
    bindings = list(_bindings(index))
    principals = list(dict.fromkeys(b.principal for b in bindings))
    number = {principal: n for n, principal in enumerate(principals)}
    grants = [
        [
            number[b.principal],
            b.role,
            b.scope,
            int(b.allows),
            condition_text(b.condition) + ("; here only" if b.here_only else ""),
            b.reason,
            b.source.line_address,
            int(b.built_in),
            b.bundle,
        ]
        for b in bindings
    ]
    return {
        "principals": [str(principal) for principal in principals],
        "grants": grants,
        "people": _people(index, principals, moment),
        "scopes": _scopes(index),
    }


def _bindings(index: EstateIndex) -> Sequence[Binding]:
    return [b for name in index.estate.platforms for b in index.platform(name).bindings]


def _people(index: EstateIndex, principals: Sequence[Principal], moment: datetime) -> list[list[Any]]:
    """Everybody: login, name, whether enabled, and the numbers of the principals that stand for them."""
    held: dict[int, list[int]] = {}
    for name in index.estate.platforms:
        own = {p: n for n, p in enumerate(principals) if p not in (AUTHENTICATED, ANONYMOUS)}
        if name != next(iter(index.estate.platforms)):
            own = {p: n for p, n in own.items() if p.kind is PrincipalKind.LOCAL_GROUP}
        local = index.estate.platforms[name].local_groups
        own = {p: n for p, n in own.items() if p.kind is not PrincipalKind.LOCAL_GROUP or p.name in local}
        behind = PeopleByName(index, name, moment, own)
        names = [own[p] for p in behind.names]
        for user, place in zip(behind.user.tolist(), behind.name.tolist(), strict=True):
            held.setdefault(user, []).append(names[place])
    everyone = [n for n, p in enumerate(principals) if p == AUTHENTICATED]
    users = index.estate.directory.users
    numbered = index.membership.numbered
    active = numbered.active(on_clock(moment, index.estate.time_zone).date())
    found = []
    for number, login in enumerate(numbered.logins):
        enabled = bool(active[number])
        mine = sorted({*held.get(number, ()), *(everyone if enabled else ())})
        found.append([login, users[login].name, int(enabled), mine])
    return found


def _scopes(index: EstateIndex) -> list[list[Any]]:
    """All places in the order of the trees: address, kind, what it is for, what it gathers, who answers."""
    return [
        [
            scope.address,
            scope.kind,
            scope.purpose,
            [item.address for item in scope.gathers],
            str(scope.owner) if scope.owner else "",
        ]
        for platform in index.estate.platforms.values()
        for scope in platform.scopes.values()
    ]


def _finding(checked: Checked, flaw: Any) -> dict[str, Any]:
    return {
        "severity": flaw.severity.value,
        "rule": flaw.rule,
        "where": str(flaw.source),
        "line": checked.lines.get((flaw.source.file, flaw.source.line), ""),
        "message": flaw.message,
        "consequence": flaw.consequence,
        "hint": flaw.hint,
    }


def _glance(result: Glance) -> dict[str, Any]:
    rows = [
        {
            "names": some_of(row.names, 6),
            "fields": [
                {"much": f.much.value, "share": min(round(100 * f.cells / cells), 99) if cells else 0}
                for f, cells in zip(row.fields, result.cells, strict=True)
            ],
        }
        for row in result.rows
        if any(field.cells for field in row.fields)
    ]
    return {"columns": result.columns, "rows": rows[:_MOST_GLANCE], "left": max(len(rows) - _MOST_GLANCE, 0)}


def _platform(index: EstateIndex, platform: Platform, asked: Question) -> dict[str, Any]:
    found = administrators(index, platform.name, asked) if platform.administration else None
    root = platform.scopes[platform.name]
    return {
        "name": platform.name,
        "for": platform.purpose,
        "owner": str(root.owner) if root.owner else "",
        "habits": list(in_words(platform)),
        "scopes": len(platform.scopes),
        "roles": len(platform.roles),
        "grants": sum(1 for _ in index.platform(platform.name).bindings),
        "administrators": (
            f"{len(found.full)} fully ({', '.join(found.full[:8])}), {len(found.limited)} in part" if found else ""
        ),
        "sensitive": [
            f"{one.action}: {counted(one.people, 'person', 'people')}" for one in in_hands(index, platform.name, asked)
        ],
    }


def _roles(index: EstateIndex, platform: Platform) -> list[dict[str, Any]]:
    prepared = index.platform(platform.name)
    given: dict[str, int] = {}
    for b in prepared.bindings:
        given[b.role] = given.get(b.role, 0) + 1
    return [
        {
            "name": role.name,
            "platform": platform.name,
            "for": role.purpose,
            "owner": str(role.owner) if role.owner else "",
            "actions": list(prepared.roles.holdings(role.name)),
            "sensitive": [a for a in prepared.roles.holdings(role.name) if platform.actions[a].sensitive],
            "built_in": role.built_in,
            "given": given.get(role.name, 0),
            "line": role.source.line_address,
        }
        for role in platform.roles.values()
    ]


def _groups(index: EstateIndex) -> list[dict[str, Any]]:
    """The groups that the estate names, for a successor."""
    estate = index.estate
    bound = dict.fromkeys(b.principal for b in _bindings(index))
    found = []
    for principal in bound:
        if principal.kind is PrincipalKind.GROUP:
            purpose = estate.directory.groups[principal.name].purpose
            owner = estate.owners.get(principal.name)
            found.append({"name": str(principal), "for": purpose, "owner": str(owner) if owner else ""})
    for platform in estate.platforms.values():
        for local in platform.local_groups.values():
            holds = ", ".join(str(m.member) for m in local.members)
            found.append({"name": f"local group {local.name} of {platform.name}", "for": local.purpose, "owner": holds})
            for name, purpose in purposes_in(local, estate.directory.groups).items():
                owner = estate.owners.get(name)
                inside = {"name": f"group {name}", "for": purpose, "owner": str(owner) if owner else ""}
                found += [inside] if inside not in found else []
    return found


def _changes(found: Comparison) -> dict[str, Any]:
    return {
        "since": found.before,
        "gained": found.gained,
        "lost": found.lost,
        "people": found.people,
        "groups": [
            {
                "users": some_of(group.users, 8),
                "changes": [
                    {
                        "sign": "gains" if c.gains else "loses",
                        "action": c.action,
                        "scope": c.scope,
                        "sensitive": c.sensitive,
                    }
                    for c in group.changes[:_MOST_CHANGES]
                ],
                "left": max(len(group.changes) - _MOST_CHANGES, 0),
            }
            for group in found.groups[:_MOST_CHANGES]
        ],
    }
