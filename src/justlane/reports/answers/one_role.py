"""One role: what it holds, what it leaves out, and who has it where."""

from __future__ import annotations

from collections.abc import Iterator

from justlane.engine.questions.administrators import Fullness
from justlane.engine.questions.one_place import Standing
from justlane.engine.questions.one_role import OneRole, RoleAction, RoleGiven
from justlane.model.names import counted
from justlane.model.shell import spelt
from justlane.reports.outputs.views import OneRole as OneRoleJson
from justlane.reports.outputs.views import RoleAction as RoleActionJson
from justlane.reports.outputs.views import RoleGiven as RoleGivenJson
from justlane.reports.outputs.views import RoleStep as RoleStepJson
from justlane.reports.parts import chains
from justlane.reports.parts.conditions import condition_text
from justlane.reports.text.lines import Line, line, render
from justlane.reports.text.look import Look, Sheet


def plain(result: OneRole) -> OneRoleJson:
    """The role as JSON values."""
    bindings = chains.References()
    role = result.role
    actions: list[RoleActionJson] = [
        {
            "action": a.action,
            "sensitive": a.sensitive,
            "held": bool(a.steps),
            "left_out": a.left_out is not None,
            "steps": _plain_steps(a),
        }
        for a in result.actions
    ]
    given: list[RoleGivenJson] = [
        {"binding": bindings.to(g.binding), "standing": g.standing.value, "people": g.people} for g in result.given
    ]
    return {
        "platform": result.platform,
        "role": role.name,
        "for": role.purpose,
        "owner": str(role.owner) if role.owner else None,
        "built_in": role.built_in,
        "kinds": list(role.kinds),
        "copied_from": role.copied_from or None,
        "administration": result.administration.value,
        "builds_on": [base.text for base in role.builds_on],
        "built_on_by": list(result.built_on_by),
        "people": result.people,
        "actions": actions,
        "given": given,
        "bindings": bindings.plain,
        **chains.plain_source(role.source),
    }


def _plain_steps(action: RoleAction) -> list[RoleStepJson]:
    found: list[RoleStepJson] = [
        {"sentence": s.sentence, **chains.plain_source(s.source)} for s in chains.role_steps(action.steps)
    ]
    if action.left_out:
        found.append({"sentence": "leaves it out", **chains.plain_source(action.left_out)})
    return found


def sheet(result: OneRole) -> Sheet:
    """One row for each action of the platform."""
    rows = [
        (
            a.action,
            "held" if a.steps else "left out" if a.left_out else "not held",
            "yes" if a.sensitive else "no",
            "; ".join(step.sentence for step in chains.role_steps(a.steps)),
            _line_of(a),
        )
        for a in result.actions
    ]
    return Sheet(("action", "state", "sensitive", "through", "line"), rows)


def _line_of(action: RoleAction) -> str:
    source = action.steps[0].source if action.steps else action.left_out
    return source.line_address if source else ""


def text(result: OneRole, look: Look) -> str:
    """The role for a person."""
    return render(_lines(result), look)


def _lines(result: OneRole) -> Iterator[Line]:
    role = result.role
    built_in = ", built in" if role.built_in else ""
    head = (f"  role of {result.platform}{built_in}", "dim")
    yield line((role.name, "head"), head, source=role.source)
    if role.purpose:
        yield line(f"  {role.purpose}", hanging="  ")
    if role.owner:
        yield line(f"  owned by {role.owner}")
    if role.kinds:
        yield line(f"  kind {', '.join(role.kinds)}", hanging="  ")
    if role.copied_from:
        comparing = spelt("role", "compare", role.name)
        yield line(f"  copied from {role.copied_from}: `{comparing}` shows what differs", hanging="  ")
    if result.administration is not Fullness.NONE:
        yield line("  holds ", (f"{result.administration.value} administration", "warn"), f" of {result.platform}")
    if result.built_on_by:
        yield line(f"  built on by {', '.join(result.built_on_by)}", hanging="  ")
    yield line()
    held = [a for a in result.actions if a.steps]
    yield line((f"holds {counted(len(held), 'action')} of {len(result.actions)}", "head"))
    for action in held:
        yield from _held(action)
    left_out = [a for a in result.actions if a.left_out and not a.steps]
    for action in left_out:
        yield line("  ", ("leaves out ", "no"), action.action, _mark(action), source=action.left_out)
    never = [a.action for a in result.actions if not a.steps and not a.left_out]
    if never:
        yield line((f"  and not {', '.join(never)}", "dim"), hanging="    ")
    yield line()
    yield line((f"{counted(result.people, 'person has', 'people have')} it somewhere", "head"))
    told: set[str] = set()
    for given in result.given:
        yield _given(given)
        for name, purpose in given.inside:
            if purpose and name not in told:
                told.add(name)
                yield line((f"       group {name} is in it: {purpose}", "dim"), hanging="       ")


def _mark(action: RoleAction) -> tuple[str, str]:
    return (" (sensitive)" if action.sensitive else "", "warn")


def _held(action: RoleAction) -> Iterator[Line]:
    said = "; ".join(step.sentence for step in chains.role_steps(action.steps))
    name, source = (action.action, "name"), action.steps[0].source
    yield line("  ", name, _mark(action), (f"  {said}", "dim"), source=source, hanging="    ")


def _given(given: RoleGiven) -> Line:
    binding = given.binding
    verb, to = "to" if binding.allows else "denied to", (str(binding.principal), "name")
    condition = condition_text(binding.condition)
    said = [f" ({counted(given.people, 'person', 'people')})", f" at {binding.scope}"]
    said += [f", {condition}"] if condition else []
    said += [f", {given.standing.value}"] if given.standing is not Standing.COUNTS else []
    return line(f"  ·  {verb} ", to, "".join(said), source=binding.source, hanging="     ")
