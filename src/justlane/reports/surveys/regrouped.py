"""Fewer lines that say the same: which, in the place of which, and what is left to persons."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from itertools import groupby

from justlane.engine.regrouping.holdings import Line as PlatformLine
from justlane.engine.regrouping.proposals import LineCount, Regrouped, Regrouping
from justlane.model.names import counted, some_of
from justlane.model.shell import spelt
from justlane.reports.outputs.regrouped import LineCount as LineCountJson
from justlane.reports.outputs.regrouped import PlainLine as PlainLineJson
from justlane.reports.outputs.regrouped import Regrouped as RegroupedJson
from justlane.reports.outputs.regrouped import Regrouping as RegroupingJson
from justlane.reports.parts.chains import plain_source
from justlane.reports.text.lines import Line, line, render
from justlane.reports.text.look import Look, Sheet

_MOST_PROPOSALS, _MOST_LINES, _MOST_LEFT, _MOST_GROUPS = 40, 6, 15, 8


def plain(result: Regrouped) -> RegroupedJson:
    """Everything as JSON values."""
    return {
        "platform": result.platform,
        "before": _plain_count(result.before),
        "after": _plain_count(result.after),
        "weight": result.weight,
        "bound": result.bound,
        "left_as_they_are": result.kept,
        "proposals": [_plain(number, one) for number, one in enumerate(result.proposals, 1)],
        "to_persons": [_plain_line(one) for one in result.left],
        "new_groups": [
            {
                "name": one.name,
                "users": list(one.people),
                "lines": [{"role": role, "scope": scope} for role, scope in one.lines],
                "saves": one.saves,
            }
            for one in result.new_groups
        ],
    }


def _plain_count(count: LineCount) -> LineCountJson:
    return {
        "lines": count.lines,
        "to_persons": count.to_persons,
        "persons": count.persons,
        "sensitive_to_persons": count.sensitive_to_persons,
    }


def _plain(number: int, one: Regrouping) -> RegroupingJson:
    return {
        "number": number,
        "people": one.people,
        "give": [_plain_line(new) for new in one.give],
        "in_place_of": [
            {"role": b.role, "to": str(b.principal), "scope": b.scope, "line": plain_source(b.source)}
            for b in one.going
        ],
        "gaining": [{"user": login, "cells": cells} for login, cells in one.gaining],
    }


def _plain_line(one: PlatformLine) -> PlainLineJson:
    principal, role, scope = one
    return {"role": role, "to": str(principal), "scope": scope}


def sheet(result: Regrouped) -> Sheet:
    """One row for each line that is given, goes, or is left to a person."""
    rows: list[tuple[object, ...]] = []
    for number, one in enumerate(result.proposals, 1):
        rows += [(number, "give", role, str(to), scope, "") for to, role, scope in one.give]
        rows += [(number, "goes", b.role, str(b.principal), b.scope, b.source.line_address) for b in one.going]
        rows += [(number, f"gains {cells} cells", "", login, "", "") for login, cells in one.gaining]
    rows += [("", "left", role, str(to), scope, "") for to, role, scope in result.left]
    return Sheet(("proposal", "what", "role", "to", "scope", "line"), rows)


def text(result: Regrouped, look: Look) -> str:
    """The proposals for a person."""
    return render(_lines(result), look)


def _lines(result: Regrouped) -> Iterator[Line]:
    for number, one in enumerate(result.proposals[:_MOST_PROPOSALS], 1):
        yield from _proposal(number, one)
    if len(result.proposals) > _MOST_PROPOSALS:
        yield line((f"and {len(result.proposals) - _MOST_PROPOSALS:,} more proposals: --format csv has all", "dim"))
    if result.left:
        yield line(("Left to persons", "head"), ": what no group says, whoever has most of it first")
        yield from _left(result.left)
        yield line("")
    yield from _asked_for(result)
    yield from _summary(result)
    if result.kept:
        stay = "stays as it is" if result.kept == 1 else "stay as they are"
        said = "a condition, a bundle, a pattern, a deny, `here only` or `as account`"
        why = f"for {said}, or since nobody behind it may sign in"
        yield line((f"{counted(result.kept, 'line')} {stay}, {why}", "dim"))
    if result.proposals:
        yield line((f"{_gained(result)}, compared in all circumstances", "dim"))
        yield line("")
        yield line(("all of it       ", "dim"), (spelt("regroup", result.platform, "--take", "all"), "name"))
        yield line(("single ones     ", "dim"), (spelt("regroup", result.platform, "--take", "1"), "name"))


def _summary(result: Regrouped) -> Iterator[Line]:
    before, after = result.before, result.after
    proof = "no choice weighs less" if result.bound == result.weight else f"no choice weighs less than {result.bound:,}"
    yield line((result.platform, "name"), f": {counted(before.lines, 'line')}{_to(before)}", hanging="  ")
    if result.proposals:
        yield line(("  then ", "head"), f"{counted(after.lines, 'line')}{_to(after)}", hanging="  ")
    yield line(("  weight ", "head"), f"{result.weight:,}, and {proof}", hanging="  ")


def _to(count: LineCount) -> str:
    if not count.to_persons:
        return ", none of them to a person"
    sensitive = f", {count.sensitive_to_persons:,} with something sensitive" if count.sensitive_to_persons else ""
    return f", {count.to_persons:,} of them to {_people(count.persons)}{sensitive}"


def _people(number: int) -> str:
    return counted(number, "person") if number == 1 else f"{number:,} people"


def _proposal(number: int, one: Regrouping) -> Iterator[Line]:
    persons = sum(b.principal.kind.value == "user" for b in one.going)
    of = f", {persons:,} of them to persons" if persons else ""
    yield line(
        (f"{number}. ", "head"),
        f"{counted(len(one.give), 'line')} in the place of {len(one.going):,}{of}"
        if one.give
        else "what stands twice goes",
        (f"  ({_people(one.people)})" if one.people else "", "dim"),
    )
    for to, role, scope in one.give[:_MOST_LINES]:
        yield line(("   + ", "yes"), (role, "head"), f" to {to} at {scope}", hanging="       ")
    if len(one.give) > _MOST_LINES:
        yield line((f"     and {len(one.give) - _MOST_LINES:,} more", "dim"))
    for b in one.going[:_MOST_LINES]:
        yield line(
            ("   - ", "no"), (b.role, "head"), f" to {b.principal} at {b.scope}", source=b.source, hanging="       "
        )
    if len(one.going) > _MOST_LINES:
        yield line((f"     and {len(one.going) - _MOST_LINES:,} more", "dim"))
    if one.gaining:
        some = ", ".join(f"{login} {cells:,}" for login, cells in one.gaining[:_MOST_LINES])
        yield line(("   gains  ", "warn"), some, (" (cells, none sensitive)", "dim"), hanging="          ")
    yield line("")


def _gained(result: Regrouped) -> str:
    people = {login for one in result.proposals for login, _ in one.gaining}
    cells = sum(cells for one in result.proposals for _, cells in one.gaining)
    if not people:
        return "nobody gains or loses anything by it"
    return f"nobody loses anything by it, and {_people(len(people))} would gain at most {counted(cells, 'cell')}"


def _asked_for(result: Regrouped) -> Iterator[Line]:
    """What groups more would save."""
    if not result.new_groups:
        return
    yield line(("New groups", "head"), " that might be asked for: people who have the same and no group")
    for one in result.new_groups[:_MOST_GROUPS]:
        who = some_of(one.people, 3)
        what = ", ".join(f"{role} at {scope}" for role, scope in one.lines[:3])
        yield line(
            "  ", (one.name, "name"), f"  {who}  {what}", (f"  (weighs {one.saves:,} less)", "dim"), hanging="      "
        )
    if len(result.new_groups) > _MOST_GROUPS:
        yield line((f"  and {len(result.new_groups) - _MOST_GROUPS:,} more: --format json has all", "dim"))
    yield line("")


def _left(left: Sequence[PlatformLine]) -> Iterator[Line]:
    people = [(to, list(some)) for to, some in groupby(left, key=lambda one: one[0])]
    for to, some in people[:_MOST_LEFT]:
        said = ", ".join(f"{role} at {scope}" for _, role, scope in some[:3])
        more = f" and {len(some) - 3:,} more" if len(some) > 3 else ""
        yield line("  ", (to.name, "name"), f"  {said}{more}", hanging="      ")
    if len(people) > _MOST_LEFT:
        yield line((f"  and {len(people) - _MOST_LEFT:,} more people", "dim"))
