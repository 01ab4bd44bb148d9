"""What would change on a platform, one line a change."""

from __future__ import annotations

from collections.abc import Iterator, Sequence

import msgspec

from justlane.model.names import counted, some_of
from justlane.platforms.alignment.plan import Plan, PlanEffect
from justlane.platforms.interface import Step
from justlane.reports.outputs.platforms import Plan as PlanJson
from justlane.reports.outputs.platforms import PlanStep as PlanStepJson
from justlane.reports.parts.conditions import condition_text
from justlane.reports.text.lines import Line, line, render
from justlane.reports.text.look import Look, Sheet

_MOST_PLACES = 3


def plain(result: Plan) -> PlanJson:
    """The plan as JSON values."""
    return {
        "platform": result.platform,
        "revision": result.revision,
        "removals": result.effect.taken,
        "effect": msgspec.to_builtins(result.effect),
        "steps": [_plain_step(s) for s in result.steps],
        "by_hand": [_plain_step(s) for s in result.by_hand],
        "unjudged": list(result.unjudged),
        "remarks": list(result.remarks),
        "new_places": list(result.new_places),
        "outside": [_plain_step(s) for s in result.outside],
        "reached": list(result.reached),
        "harmed": list(result.harmed),
    }


def _plain_step(s: Step) -> PlanStepJson:
    return {
        "change": s.verb,
        "part": s.part,
        "name": s.name,
        "before": s.before,
        "after": s.after,
        "says": said_of(s),
        "keeps": s.keeps,
        "uncounted": s.uncounted,
        "lines": [source.line_address for source in s.lines],
    }


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


def _lines(result: Plan) -> Iterator[Line]:
    if not result.differs:
        yield from _unjudged(result)
        if not result.unjudged:
            yield line(
                ("nothing to do", "yes"),
                f"  {result.platform} holds what {'the estate manages' if result.outside else 'is declared'}",
            )
        yield from places_lines(result.new_places)
        yield from outside_lines(result.outside)
        return
    yield line((result.platform, "name"), " differs from what is declared:")
    sorts = result.sorts
    together = [part for part, sort in sorts.items() if sort.neutral and not sort.one_by_one]
    for part in together:
        added = [s for s in result.steps if s.part == part and s.verb == "add"]
        if added:
            names = ", ".join(_named(s) for s in added)
            what = counted(len(added), sorts[part].one, sorts[part].many)
            yield line(("  add     ", "yes"), f"{what}: {names}", hanging=" " * 10)
    for step in result.steps:
        if step.part not in together or step.verb != "add":
            style = {"add": "yes", "change": "warn", "remove": "no"}[step.verb]
            source = step.lines[0] if step.lines else None
            verb = "keep" if step.keeps and step.verb == "add" else step.verb
            yield line((f"  {verb:<8}", style), in_full(step), source=source, hanging=" " * 10)
    for said in hand_step_lines(result.by_hand):
        yield line(("  by hand ", "warn"), said, hanging=" " * 10)
    yield from _unjudged(result)
    yield from places_lines(result.new_places)
    yield from outside_lines(result.outside, result.reached)
    for who in result.harmed[:_MOST_PLACES]:
        yield line(("  harm    ", "no"), f"outside of what the estate manages: {who} would change", hanging=" " * 10)
    for remark in result.remarks:
        yield line(("  note    ", "warn"), remark, hanging=" " * 10)
    if not result.steps:
        return
    counts = {verb: sum(s.verb == verb for s in result.steps) for verb in ("add", "change", "remove")}
    yield line()
    said = ", ".join(f"{n} to {verb}" for verb, n in counts.items() if n)
    yield line((f"{len(result.steps)} change{'s' * (len(result.steps) != 1)}: {said}", "head"))
    yield from _effect(result.effect)
    beyond = sum(bool(step.uncounted) for step in result.steps)
    if beyond:
        yield line((f"{counted(beyond, 'change')} of these mean more than cells: see above", "warn"), hanging="  ")


def places_lines(places: Sequence[str]) -> Iterator[Line]:
    """The places that nobody declared, in few words."""
    if places:
        named = some_of(places, _MOST_PLACES, len(places))
        yield line(("  new     ", "warn"), f"{of_new_places(len(places))}: {named}", hanging=" " * 10)


def outside_lines(steps: Sequence[Step], reached: Sequence[str] = ()) -> Iterator[Line]:
    """What is left alone, in few words, and whom it reaches where the estate manages."""
    if steps:
        named = some_of([in_full(step) for step in steps], _MOST_PLACES, len(steps))
        what = f"{counted(len(steps), 'difference')} outside of what the estate manages: {named}"
        yield line(("  alone   ", "dim"), what, hanging=" " * 10)
    if reached:
        some = some_of(reached, _MOST_PLACES, len(reached))
        reach = f"what is outside gives something else than is declared to {some}"
        yield line(("  reached ", "no"), reach, hanging=" " * 10)


def of_new_places(count: int) -> str:
    """How places that nobody declared are counted, and what to do."""
    each = "each " if count > 1 else ""
    return f"{counted(count, 'place')} not declared, {each}counted with what it lies in until `justlane scope pull`"


def hand_step_lines(steps: Sequence[Step]) -> Iterator[str]:
    """Steps for somebody's hands in words; those that say the same of many places share a line."""
    alike: dict[str, list[Step]] = {}
    for step in steps:
        owner = (step.before or step.after or {}).get("owner")
        alike.setdefault(f"{step.part} {owner}" if owner and step.verb == "remove" else f"{id(step)}", []).append(step)
    for some in alike.values():
        places = [str((step.before or {}).get("place") or "") for step in some]
        if len(some) > 1 and all(places):
            owner = (some[0].before or {}).get("owner")
            named = some_of(places, _MOST_PLACES, len(places))
            yield f"{owner} owns {counted(len(some), 'place')}, and may do everything there: {named}"
        else:
            yield from (f"{step.verb}: {in_full(step)}" for step in some)


def _unjudged(result: Plan) -> Iterator[Line]:
    for said in result.unjudged:
        yield line(("  unknown ", "no"), f"not judged: {said}; what it gives is in no count", hanging=" " * 10)


def _effect(effect: PlanEffect) -> Iterator[Line]:
    gained = (f"{effect.gained:,} cell{'s' * (effect.gained != 1)} gained", "yes" if effect.gained else "dim")
    lost = (f"{effect.lost:,} lost", "no" if effect.lost else "dim")
    parts = (("membership", effect.memberships), ("account", effect.accounts))
    more = "".join(f", {count:,} {what}{'s' * (count != 1)} taken away" for what, count in parts if count)
    yield line("for people: ", gained, ", ", lost, (more, "no"), hanging="  ")


def said_of(step: Step) -> str:
    """A change in words."""
    when = condition_text(step.when)
    text = f"{step.what}{f', {when}' if when else ''}"
    changes = f": {_differences(step)}" if step.before is not None and step.after is not None else ""
    return f"{text}{changes}"


def in_full(step: Step) -> str:
    """A change in words, with what it means besides cells."""
    return f"{said_of(step)} ({step.uncounted})" if step.uncounted else said_of(step)


def _named(step: Step) -> str:
    """Something that is added, in short."""
    entry = step.after or {}
    members = entry.get("members")
    if isinstance(members, list):
        return f"{step.name} ({len(members)})"
    return step.name if entry.get("enabled", True) else f"{step.name} (disabled)"


def _differences(step: Step) -> str:
    """What changes inside an entry, key by key."""
    return "; ".join(step.changes) or "the order of its entries"
