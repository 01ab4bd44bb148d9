"""What would change on a platform, one line a change."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any

from justlane.platforms.aligning import Plan, Step
from justlane.reports.interface import Look, Sheet
from justlane.reports.layout import Line, line, render


def plain(result: Plan) -> dict[str, Any]:
    """The plan as JSON values."""
    return {
        "platform": result.platform,
        "revision": result.revision,
        "removals": result.removals,
        "steps": [
            {"change": s.verb, "part": s.part, "name": s.name, "before": s.before, "after": s.after}
            for s in result.steps
        ],
    }


def sheet(result: Plan) -> Sheet:
    """One row for each change."""
    return Sheet(("change", "part", "name", "what"), [(s.verb, s.part, s.name, _what(s)) for s in result.steps])


def text(result: Plan, look: Look) -> str:
    """The changes for a person; people, groups (with the number of their direct members) and roles that are only
    added share a line."""
    return render(_lines(result), look)


def _lines(result: Plan) -> Iterator[Line]:
    if not result.steps:
        yield line(("nothing to do", "yes"), f"  {result.platform} holds what is declared")
        return
    yield line((result.platform, "name"), " differs from what is declared:")
    for kind in ("people", "groups", "roles"):
        added = [s for s in result.steps if s.part == kind and s.verb == "add"]
        if added:
            names = ", ".join(_named(s) for s in added)
            yield line(("  add     ", "yes"), f"{len(added)} {kind}: {names}", hanging=" " * 10)
    for step in result.steps:
        if step.part == "bindings" or step.verb != "add":
            style = {"add": "yes", "change": "warn", "remove": "no"}[step.verb]
            yield line((f"  {step.verb:<8}", style), _what(step), hanging=" " * 10)
    counts = {verb: sum(s.verb == verb for s in result.steps) for verb in ("add", "change", "remove")}
    yield line()
    counted = ", ".join(f"{n} to {verb}" for verb, n in counts.items() if n)
    yield line((f"{len(result.steps)} change{'s' * (len(result.steps) != 1)}: {counted}", "head"))


def _what(step: Step) -> str:
    """A change in words."""
    entry = step.after or step.before or {}
    if step.part == "bindings":
        text = f"binding: {entry['role']} to {entry['principal']} at {entry['scope']}"
        if step.verb == "change" and step.before:
            return f"{text} {_differences(step.before, entry)}"
        return text if entry.get("reason") else f"{text} (no reason given)"
    kind = {"people": "person", "groups": "group", "roles": "role"}[step.part]
    if step.before is not None and step.after is not None:
        return f"{kind} {step.name}: {_differences(step.before, step.after)}"
    return f"{kind} {step.name}"


def _named(step: Step) -> str:
    """Something that is added, in short."""
    entry = step.after or {}
    if step.part == "people":
        return step.name if entry.get("enabled") else f"{step.name} (disabled)"
    members = entry.get("members")
    return f"{step.name} ({len(members)})" if isinstance(members, list) else step.name


def _differences(before: dict[str, object], after: dict[str, object]) -> str:
    """What changes inside an entry, key by key."""
    said: list[str] = []
    for key in {**before, **after}:
        old, new = before.get(key), after.get(key)
        if isinstance(old, list) and isinstance(new, list):
            said += [f"{key} gain {item}" for item in new if item not in old]
            said += [f"{key} lose {item}" for item in old if item not in new]
        elif old != new:
            said.append(f"{key} {old!r} becomes {new!r}" if key in before else f"{key} {new!r}")
    return "; ".join(said) or "the order of its entries"
