"""An edit before it is saved: the lines that change, who gains and loses what, and what speaks against it."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence

from justlane.engine.changes.comparison import Acting, Alike, CellChange
from justlane.engine.changes.effect import Effect
from justlane.files.editing.draft import Changed, Hunk
from justlane.files.saving.proposal import Proposal
from justlane.model.findings import Source
from justlane.model.names import counted
from justlane.reports.changes import comparison
from justlane.reports.outputs.changes import Alike as AlikeJson
from justlane.reports.outputs.edits import Acting as ActingJson
from justlane.reports.outputs.edits import ChangedFile as ChangedFileJson
from justlane.reports.outputs.edits import ChangedLines as ChangedLinesJson
from justlane.reports.outputs.edits import Proposal as ProposalJson
from justlane.reports.parts.edits import plain_effect
from justlane.reports.parts.findings import plain_findings
from justlane.reports.text.lines import Line, Span, line, render
from justlane.reports.text.look import Look, Sheet

_MOST_LINES = 60
_MOST_GROUPS = 20
_MOST_NAMES = 6
_MOST_PLACES = 3
_MOST_AGAINST = 3
_MOST_ALIKE = 5
"""So many warnings of one rule are shown."""


def _group(group: Alike) -> Iterator[Line]:
    """People who change alike; actions that change at the same places on one line."""
    more = f" and {len(group.users) - _MOST_NAMES} more" if len(group.users) > _MOST_NAMES else ""
    each = f"{len(group.users)} people, each " if len(group.users) > 1 else ""
    yield line(
        (", ".join(group.users[:_MOST_NAMES]) + more, "name"),
        (f"  ({each}{group.gained} gained, {group.lost} lost)", "dim"),
        hanging="  ",
    )
    by_action: dict[tuple[object, ...], list[CellChange]] = {}
    for change in group.changes:
        by_action.setdefault((change.action, change.before, change.after), []).append(change)
    alike: dict[tuple[object, ...], list[list[CellChange]]] = {}
    for (_, *when), changes in by_action.items():
        alike.setdefault((tuple(change.scope for change in changes), *when), []).append(changes)
    for together in alike.values():
        places = [change.scope for change in together[0]]
        yield line(*_together([changes[0] for changes in together], places), hanging=" " * 10)


def _together(changes: list[CellChange], places: list[str]) -> Iterator[Span | str]:
    one = changes[0]
    if one.gains != one.loses:
        yield ("  gains   ", "yes") if one.gains else ("  loses   ", "no")
    else:
        yield "  moves   ", "warn"
    for number, change in enumerate(changes):
        yield ", " if number else ""
        yield change.action, "head"
        yield (" (sensitive)", "warn") if change.sensitive else ""
    left = len(places) - _MOST_PLACES
    more = f" and {left} more place{'s' * (left > 1)}" if left > 0 else ""
    yield f" at {', '.join(places[:_MOST_PLACES])}{more}"
    if one.before or one.after:
        yield f": before, {comparison.circumstances_text(one.before)}; now, {comparison.circumstances_text(one.after)}"


def plain(result: Proposal) -> ProposalJson:
    """The edit as JSON values."""
    return {
        "command": result.command,
        "changes": [_plain_file(change) for change in result.changes],
        "effect": plain_effect(result.effect),
        "groups": _plain_groups(result.groups),
        "acting": [_plain_acting(one) for one in result.acting],
        "later": [
            {
                "from": one.day.isoformat(),
                "effect": plain_effect(one.effect),
                "groups": _plain_groups(one.groups),
                "acting": [_plain_acting(some) for some in one.acting],
            }
            for one in result.later
        ],
        "changes_nothing": result.changes_nothing,
        "remarks": [{"kind": r.kind, "message": r.message, "source": _address(r.source)} for r in result.remarks],
        "refusals": [{"kind": r.kind, "message": r.message} for r in result.refusals],
        "warnings": plain_findings(result.warnings),
    }


def _plain_groups(groups: Sequence[Alike] | None) -> list[AlikeJson] | None:
    return None if groups is None else [comparison.plain_group(group) for group in groups]


def _plain_acting(one: Acting) -> ActingJson:
    return {
        "platform": one.platform,
        "role": one.role,
        "gains": one.gains,
        "loses": one.loses,
        "users": list(one.users),
        "places": one.places,
    }


def _plain_file(change: Changed) -> ChangedFileJson:
    return {"file": change.file, "lines": [plain_hunk(hunk) for hunk in change.hunks]}


def plain_hunk(hunk: Hunk) -> ChangedLinesJson:
    """Lines that stand in the place of others, as JSON values."""
    return {"line": hunk.line, "old": bare(hunk.old), "new": bare(hunk.new)}


def bare(lines: tuple[str, ...]) -> list[str]:
    """Lines without their ends."""
    return [text.rstrip("\r\n") for text in lines]


def _address(source: Source | None) -> str | None:
    return source.line_address if source else None


def sheet(result: Proposal) -> Sheet:
    """One row for each action that people gain or lose, today (an empty day) and from each later day on."""
    days = [("", result.effect), *((one.day.isoformat(), one.effect) for one in result.later)]
    rows = [
        (day, what, moved.action, "yes" if moved.sensitive else "no", moved.people, moved.cells)
        for day, effect in days
        for what, some in (("gains", effect.gains), ("loses", effect.losses))
        for moved in some
    ]
    return Sheet(("from", "change", "action", "sensitive", "people", "cells"), rows)


def text(result: Proposal, look: Look) -> str:
    """The edit for a person."""
    return render(_lines(result), look)


def _lines(result: Proposal) -> Iterator[Line]:
    if not result.changes:
        yield line(("nothing to change", "yes"), "  the files say so already")
    for change in result.changes:
        yield from _file(change)
    if result.changes:
        yield line()
        if result.changes_nothing:
            yield line(("effect   ", "head"), "nobody gains or loses anything")
        else:
            yield from _effect("today", result.effect, result.groups, result.acting)
            for one in result.later:
                yield from _effect(f"from {one.day} on", one.effect, one.groups, one.acting)
    for remark in result.remarks:
        told = f" ({remark.source.line_address})" if remark.source else ""
        yield line(("note     ", "head"), remark.message + told, hanging=" " * 9)
    warnings = [(f.rule, f"{f.source.line_address}: {f.message}") for f in result.warnings]
    yield from _few_of_each("warning", "warn", warnings, _MOST_ALIKE, "`check` has all")
    against = [(refusal.kind, refusal.message) for refusal in result.refusals]
    yield from _few_of_each("against", "no", against, _MOST_AGAINST, "--format json has all")


def _few_of_each(word: str, style: str, said: Iterable[tuple[str, str]], most: int, where: str) -> Iterator[Line]:
    """What is said, each with its kind; of many of a kind a few, with how many more there are."""
    kinds: dict[str, list[str]] = {}
    for kind, message in said:
        kinds.setdefault(kind, []).append(message)
    for some in kinds.values():
        left = len(some) - most
        shown = some if left <= 1 else [*some[:most], f"and {left:,} more of this kind; {where}"]
        yield from (line((f"{word:<9}", style), message, hanging=" " * 9) for message in shown)


def _file(change: Changed) -> Iterator[Line]:
    yield line((change.file, "name"))
    moved = left = 0
    for hunk in change.hunks:
        for number, said in enumerate(bare(hunk.old), hunk.line):
            left += 1
            if left <= _MOST_LINES:
                yield line((f"{number:>5} - ", "no"), said, hanging=" " * 12)
        for number, said in enumerate(bare(hunk.new), hunk.line + moved):
            left += 1
            if left <= _MOST_LINES:
                yield line((f"{number:>5} + ", "yes"), said, hanging=" " * 12)
        moved += len(hunk.new) - len(hunk.old)
    if left > _MOST_LINES:
        yield line((f"      … and {counted(left - _MOST_LINES, 'line')} more", "dim"))


def _effect(when: str, effect: Effect, groups: Sequence[Alike] | None, acting: Sequence[Acting]) -> Iterator[Line]:
    """What changes from one day on, and what people can act as."""
    head = "effect   " if when == "today" else f"{when}  "
    if not effect.people:
        cells = "anything" if not acting else "what they may do"
        yield line((head, "head"), f"nobody gains or loses {cells}{' today' if when == 'today' else ''}")
    else:
        yield from _cells(head, effect, groups)
    for one in acting:
        yield line(*_acting(one), hanging=" " * 10)


def _acting(one: Acting) -> Iterator[Span | str]:
    more = f" and {len(one.users) - _MOST_NAMES} more" if len(one.users) > _MOST_NAMES else ""
    yield (", ".join(one.users[:_MOST_NAMES]) + more, "name")
    can = "can act otherwise" if one.gains and one.loses else "can now act" if one.gains else "can no longer act"
    yield (f"  {can} as ", "yes" if one.gains else "no")
    yield (one.role, "head")
    yield f" at {counted(one.places, 'place')} of {one.platform}; what they may do there stays the same"


def _cells(head: str, effect: Effect, groups: Sequence[Alike] | None) -> Iterator[Line]:
    yield line(
        (head, "head"),
        f"for {counted(effect.people, 'person', 'people')}: ",
        (f"{counted(effect.gained, 'cell')} gained", "yes" if effect.gained else "dim"),
        ", ",
        (f"{effect.lost:,} lost", "no" if effect.lost else "dim"),
    )
    if groups is not None:
        for group in groups[:_MOST_GROUPS]:
            yield from _group(group)
        left = groups[_MOST_GROUPS:]
        if left:
            people = counted(sum(len(group.users) for group in left), "person", "people")
            yield line((f"  … and {people} more in {len(left)} ways; --format json has all", "dim"))
        return
    for mark, style, some in (("gains", "yes", effect.gains), ("loses", "no", effect.losses)):
        for moved in some:
            yield line(
                (f"  {mark}   ", style),
                (moved.action, "head"),
                (" (sensitive)", "warn") if moved.sensitive else "",
                f"  {counted(moved.people, 'person', 'people')}, {counted(moved.cells, 'cell')}",
            )
