"""What would change on a platform, one line a change."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any

import msgspec

from justlane.model.names import counted
from justlane.platforms.alignment.aligning import Effect, Plan
from justlane.platforms.interface import Step
from justlane.platforms.over_http.dialect import condition_of
from justlane.reports.answers.conditions import condition_text
from justlane.reports.interface import Look, Sheet
from justlane.reports.layout import Line, line, render


def plain(result: Plan) -> dict[str, Any]:
    """The plan as JSON values."""
    return {
        "platform": result.platform,
        "revision": result.revision,
        "removals": result.effect.taken,
        "effect": msgspec.to_builtins(result.effect),
        "steps": [_plain_step(s) for s in result.steps],
        "by_hand": [_plain_step(s) for s in result.by_hand],
        "unjudged": list(result.unjudged),
    }


def _plain_step(s: Step) -> dict[str, Any]:
    lines = [source.line_address for source in s.lines]
    changed = {"change": s.verb, "part": s.part, "name": s.name, "before": s.before, "after": s.after}
    return {**changed, "says": said_of(s), "lines": lines}


def sheet(result: Plan) -> Sheet:
    """One row for each change."""
    columns = ("change", "part", "name", "what", "by_hand", "lines")
    steps = (*result.steps, *result.by_hand)
    rows = [
        (s.verb, s.part, s.name, said_of(s), "yes" if s.by_hand else "", " ".join(x.line_address for x in s.lines))
        for s in steps
    ]
    return Sheet(columns, rows)


def text(result: Plan, look: Look) -> str:
    """The changes for a person; people, groups (with the number of their direct members) and roles that are only
    added share a line."""
    return render(_lines(result), look)


_TOGETHER = ("people", "groups", "roles")
_KINDS = {
    "people": "person",
    "groups": "group",
    "local_groups": "local group",
    "roles": "role",
    "publications": "publication",
    "ceilings": "ceiling",
    "bindings": "binding",
}


def _lines(result: Plan) -> Iterator[Line]:
    if not result.differs:
        yield from _unjudged(result)
        if not result.unjudged:
            yield line(("nothing to do", "yes"), f"  {result.platform} holds what is declared")
        return
    yield line((result.platform, "name"), " differs from what is declared:")
    for kind in _TOGETHER:
        added = [s for s in result.steps if s.part == kind and s.verb == "add"]
        if added:
            names = ", ".join(_named(s) for s in added)
            what = counted(len(added), _KINDS[kind], kind)
            yield line(("  add     ", "yes"), f"{what}: {names}", hanging=" " * 10)
    for step in result.steps:
        if step.part not in _TOGETHER or step.verb != "add":
            style = {"add": "yes", "change": "warn", "remove": "no"}[step.verb]
            source = step.lines[0] if step.lines else None
            yield line((f"  {step.verb:<8}", style), said_of(step), source=source, hanging=" " * 10)
    for step in result.by_hand:
        yield line(("  by hand ", "warn"), f"{step.verb} {said_of(step)}", hanging=" " * 10)
    yield from _unjudged(result)
    counts = {verb: sum(s.verb == verb for s in result.steps) for verb in ("add", "change", "remove")}
    yield line()
    said = ", ".join(f"{n} to {verb}" for verb, n in counts.items() if n)
    yield line((f"{len(result.steps)} change{'s' * (len(result.steps) != 1)}: {said}", "head"))
    yield from _effect(result.effect)


def _unjudged(result: Plan) -> Iterator[Line]:
    for said in result.unjudged:
        yield line(("  unknown ", "no"), f"{said}: what it gives is in no count", hanging=" " * 10)


def _effect(effect: Effect) -> Iterator[Line]:
    gained = (f"{effect.gained:,} cell{'s' * (effect.gained != 1)} gained", "yes" if effect.gained else "dim")
    lost = (f"{effect.lost:,} lost", "no" if effect.lost else "dim")
    parts = (("membership", effect.memberships), ("account", effect.accounts))
    more = "".join(f", {count:,} {what}{'s' * (count != 1)} taken away" for what, count in parts if count)
    yield line("for people: ", gained, ", ", lost, (more, "no"), hanging="  ")


def said_of(step: Step) -> str:
    """A change in words."""
    if step.what:
        changes = step.before is not None and step.after is not None
        return f"{step.what}{f': {_differences(step.before or {}, step.after or {})}' if changes else ''}"
    entry = step.after or step.before or {}
    when = condition_text(condition_of(entry.get("condition")))
    text = f"{_KINDS[step.part]}{_described(step, entry)}{f', {when}' if when else ''}"
    if step.before is not None and step.after is not None:
        return f"{text}: {_differences(step.before, step.after)}"
    return text


def _described(step: Step, entry: dict[str, object]) -> str:
    """What an entry is about; the platform's own identifiers say nothing to people."""
    if step.part == "bindings":
        verb = "denied to" if entry.get("deny") else "to"
        reason = "" if entry.get("reason") or step.verb == "change" else " (no reason given)"
        return f": {entry.get('role')} {verb} {entry.get('principal')} at {entry.get('scope')}{reason}"
    if step.part == "publications":
        return f": group {entry.get('group')} to {entry.get('scope')}"
    if step.part == "ceilings":
        patterns = entry.get("patterns")
        never = ", ".join(map(str, patterns)) if isinstance(patterns, list) else "?"
        return f": never {never} to {entry.get('principal')}"
    members = entry.get("members")
    held = f" with {', '.join(map(str, members))}" if step.part == "local_groups" and isinstance(members, list) else ""
    return f" {step.name}{held if step.verb == 'add' else ''}"


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
