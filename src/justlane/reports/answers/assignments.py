"""What is given to one person or one group, as a list."""

from __future__ import annotations

from collections.abc import Iterator

from msgspec.structs import replace

from justlane.engine.questions.assignments import Assignment, Assignments
from justlane.engine.questions.one_place import Standing
from justlane.model.names import counted
from justlane.model.people import PrincipalKind
from justlane.reports.outputs.views import Assignment as AssignmentJson
from justlane.reports.outputs.views import Assignments as AssignmentsJson
from justlane.reports.parts import chains
from justlane.reports.parts.conditions import condition_text
from justlane.reports.text.lines import Line, line, render
from justlane.reports.text.look import Look, Sheet
from justlane.reports.text.tables import table

_COLUMNS = ("role", "at", "through", "when", "until", "state", "line")


def plain(result: Assignments) -> AssignmentsJson:
    """The list as JSON values."""
    bindings = chains.References()
    given: list[AssignmentJson] = [
        {
            "binding": bindings.to(a.binding),
            "through": [str(step.group) for step in a.memberships],
            "standing": a.standing.value,
            "inherited": a.inherited,
            "partly": a.partly,
        }
        for a in result.given
    ]
    return {
        "principal": str(result.principal),
        "platform": result.platform or None,
        "for": result.purpose,
        "enabled": result.enabled,
        "people": result.people,
        "within": result.within,
        "given": given,
        "published": [{"platform": platform, "scope": scope} for platform, scope in result.published],
        "bindings": bindings.plain,
    }


def sheet(result: Assignments) -> Sheet:
    """One row for each binding."""
    return Sheet(_COLUMNS, [_row(result, a) for a in result.given])


def _row(result: Assignments, a: Assignment) -> tuple[object, ...]:
    binding = a.binding
    asked = replace(binding.condition, first_day=None, last_day=None)
    first, last = binding.condition.first_day, binding.condition.last_day
    state = [] if binding.allows else ["denied"]
    state += [f"begins {first}"] if a.standing is Standing.NOT_YET else []
    state += [a.standing.value] if a.standing in (Standing.ENDED, Standing.NOT_PUBLISHED) else []
    state += ["account disabled or over"] if not result.enabled else []
    state += ["here only"] if binding.here_only else []
    state += [f"as {binding.account}"] if binding.account else []
    state += ["built in"] if binding.built_in else []
    state += ["inherited"] if a.inherited else ["for a part"] if a.partly else []
    state += [binding.acting] if binding.bundle else []
    return (
        binding.role,
        binding.scope,
        _through(result, a),
        condition_text(asked) or "always",
        last or "",
        ", ".join(state),
        binding.source.line_address,
    )


def _through(result: Assignments, a: Assignment) -> str:
    if a.memberships:
        return chains.way("", a.memberships)
    return "directly" if a.binding.principal == result.principal else str(a.binding.principal)


def text(result: Assignments, look: Look) -> str:
    """The list for a person."""
    head = render(_head(result), look)
    return head + ("\n" + table(_telling(sheet(result)), look) if result.given else "")


def _telling(full: Sheet) -> Sheet:
    """The columns that say something."""
    kept = [n for n in range(len(full.columns)) if {str(row[n]) for row in full.rows} - {"", "always"}]
    return Sheet(tuple(full.columns[n] for n in kept), [[row[n] for n in kept] for row in full.rows])


def _head(result: Assignments) -> Iterator[Line]:
    name = str(result.principal) + (f" of {result.platform}" if result.platform else "")
    yield line((name, "head"), f"  {result.purpose}", hanging="  ")
    if not result.enabled:
        yield line(("the account is disabled, or has ended: nothing of this counts", "no"))
    if result.principal.kind in (PrincipalKind.GROUP, PrincipalKind.LOCAL_GROUP):
        yield line(f"stands for {counted(result.people, 'enabled person', 'enabled people')}")
    for platform, scope in result.published:
        yield line(f"published on {platform} to {scope}")
    within = f" at {result.within}, above or below it" if result.within else ""
    if not result.given:
        yield line(f"nothing is given to them{within}")
    else:
        yield line(f"{counted(len(result.given), 'binding')}{within}")
