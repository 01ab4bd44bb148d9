"""Roles beside each other: a list of them, two compared, and those that fit what is required."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any

from justlane.engine.questions.administrators import Fullness
from justlane.engine.surveys.roles import Beside, Fitting, RoleInShort, Roles
from justlane.model.names import counted
from justlane.model.shell import spelt
from justlane.reports.outputs.edits import Fitting as FittingJson
from justlane.reports.outputs.edits import RoleInShort as RoleInShortJson
from justlane.reports.outputs.edits import Roles as RolesJson
from justlane.reports.outputs.edits import RolesBeside as RolesBesideJson
from justlane.reports.text.lines import Line, Span, line, render
from justlane.reports.text.look import Look, Sheet

_MARKS: dict[str, Span] = {
    "only_first": ("  <  only ", "warn"),
    "only_second": ("  >  only ", "warn"),
    "both": ("  =  both ", "dim"),
}


def plain(result: Roles | Beside | Fitting) -> RolesJson | RolesBesideJson | FittingJson:
    """The roles as JSON values."""
    match result:
        case Beside():
            return {
                "platform": result.platform,
                "first": result.first.name,
                "second": result.second.name,
                "equal": result.equal,
                "only_first": list(result.only_first),
                "only_second": list(result.only_second),
                "both": list(result.both),
                "sensitive": list(result.sensitive),
            }
        case Fitting():
            return {
                "platform": result.platform,
                "group": result.group or None,
                "required": list(result.required),
                "said": list(result.said),
                "fits": [
                    {"role": fit.role or None, "excess": list(fit.excess), "sensitive": fit.sensitive}
                    for fit in result.fits
                ],
            }
        case Roles():
            return {"roles": [_plain(role) for role in result.roles]}


def _plain(role: RoleInShort) -> RoleInShortJson:
    return {
        "platform": role.platform,
        "role": role.role.name,
        "for": role.role.purpose,
        "kinds": list(role.role.kinds),
        "built_in": role.role.built_in,
        "copied_from": role.role.copied_from or None,
        "owner": str(role.role.owner) if role.role.owner else None,
        "administration": role.administration.value,
        "people": role.people,
        "sensitive": role.sensitive,
        "actions": list(role.actions),
        "holds_all_of": list(role.holds_all_of),
        "file": role.role.source.file,
        "line": role.role.source.line,
    }


def sheet(result: Roles | Beside | Fitting) -> Sheet:
    """One row for each role, or for each action of two roles."""
    match result:
        case Beside():
            rows: list[tuple[object, ...]] = [
                (action, where, "yes" if action in result.sensitive else "no")
                for where, some in (
                    (result.first.name, result.only_first),
                    (result.second.name, result.only_second),
                    ("both", result.both),
                )
                for action in some
            ]
            return Sheet(("action", "in", "sensitive"), rows)
        case Fitting():
            return Sheet(
                ("role", "excess", "sensitive"),
                [(f.role or "new", " ".join(f.excess), f.sensitive) for f in result.fits],
            )
        case Roles():
            columns = ("platform", "role", "kinds", "administration", "people", "actions", "sensitive", "for")
            return Sheet(
                columns,
                [
                    (r.platform, r.role.name, " ".join(r.role.kinds), r.administration.value, r.people, len(r.actions),
                     r.sensitive, r.role.purpose)
                    for r in result.roles
                ],
            )  # fmt: skip


def text(result: Roles | Beside | Fitting, look: Look) -> str:
    """The roles for a person."""
    match result:
        case Beside():
            return render(_beside(result), look)
        case Fitting():
            return render(_fitting(result), look)
        case Roles():
            return render(_roles(result), look)


def _roles(result: Roles) -> Iterator[Line]:
    if not result.roles:
        yield line("no role is like that")
    before = ""
    for role in result.roles:
        if role.platform != before:
            yield from ([line()] if before else [])
            yield line((role.platform, "head"))
            before = role.platform
        yield line(*_head(role), hanging="    ")


def _head(role: RoleInShort) -> tuple[Span | str, ...]:
    held = f"{counted(len(role.actions), 'action')}"
    sensitive = (f", {role.sensitive} sensitive", "warn") if role.sensitive else ""
    told = f", {counted(role.people, 'person', 'people')}" if role.people else ", nobody"
    admin: Span | str = ""
    if role.administration is not Fullness.NONE:
        admin = (f", {role.administration.value} administration", "warn")
    said = [f"kind {', '.join(role.role.kinds)}"] if role.role.kinds else []
    said += ["built in"] if role.role.built_in else []
    said += [f"copied from {role.role.copied_from}"] if role.role.copied_from else []
    more = f"  ({'; '.join(said)})" if said else ""
    return ("  ", (role.role.name, "name"), f"  {held}", sensitive, told, admin, (more, "dim"))


def ladder(result: Roles, look: Look) -> str:
    """Which roles hold all of which others: below each role those right under it; single ones beside."""
    return render(_ladder(result), look)


def _ladder(result: Roles) -> Iterator[Line]:
    for platform in dict.fromkeys(role.platform for role in result.roles):
        here = {role.role.name: role for role in result.roles if role.platform == platform}
        under = {name: [b for b in role.holds_all_of if b in here] for name, role in here.items()}
        held = {below for some in under.values() for below in some}
        yield line((platform, "head"))
        tops = [name for name in here if name not in held and under[name]]
        for name in tops:
            yield from _rungs(here, under, name, 1)
        single = [name for name in here if name not in held and not under[name]]
        if single:
            yield line(("  single-purpose  ", "dim"), ", ".join(single), hanging="    ")


def _rungs(here: dict[str, RoleInShort], under: dict[str, list[str]], name: str, depth: int) -> Iterator[Line]:
    _, *rest = _head(here[name])
    yield line("  " * depth, *rest, hanging="  " * (depth + 2))
    between = {below for rung in under[name] for below in under[rung]}
    for rung in under[name]:
        if rung not in between:
            yield from _rungs(here, under, rung, depth + 1)


def _beside(result: Beside) -> Iterator[Line]:
    state: Span = ("hold the same", "yes") if result.equal else ("differ", "warn")
    yield line((result.first.name, "name"), " and ", (result.second.name, "name"), f" on {result.platform} ", state)
    copied = next((a for a, b in _pairs(result) if a.copied_from == b.name), None)
    if copied is not None:
        yield line((f"  {copied.name} was copied from {copied.copied_from} ({copied.source.line_address})", "dim"))
    width = max(len(result.first.name), len(result.second.name))
    for mark, name, some in (
        ("only_first", result.first.name, result.only_first),
        ("only_second", result.second.name, result.only_second),
        ("both", "", result.both),
    ):
        for action in some:
            sensitive: Span | str = (" (sensitive)", "warn") if action in result.sensitive else ""
            yield line(_MARKS[mark], (f"{name:<{width}}  ", "dim"), (action, "head"), sensitive)


def _pairs(result: Beside) -> tuple[tuple[Any, Any], tuple[Any, Any]]:
    return (result.first, result.second), (result.second, result.first)


def _fitting(result: Fitting) -> Iterator[Line]:
    if not result.required:
        yield line(("nothing is required", "warn"), f"  of {result.group or 'anybody'} on {result.platform}")
        return
    yield line(("required", "head"), f"  {', '.join(result.required)}", hanging="  ")
    for said in result.said:
        yield line((f"  {said}", "dim"), hanging="    ")
    for fit in result.fits:
        name = fit.role or "a new role with exactly these"
        sensitive: Span | str = (f", {fit.sensitive} of it sensitive", "warn") if fit.sensitive else ""
        told = f": {', '.join(fit.excess)}" if fit.excess else ""
        more = f"  {counted(len(fit.excess), 'action')} more" if fit.excess else "  nothing more"
        yield line(("fits     ", "yes"), (name, "name"), more, sensitive, told, hanging=" " * 9)
        if not fit.role:
            allow = [word for action in result.required for word in ("--allow", action)]
            made = spelt("role", "make", "NEW", "--on", result.platform, "--for", "…", *allow)
            yield line((" " * 9 + made, "dim"), hanging=" " * 11)
