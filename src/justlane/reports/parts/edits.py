"""Edits and what they do, in words and as JSON values."""

from __future__ import annotations

from collections.abc import Collection, Iterable, Iterator, Sequence
from typing import Any, cast

from justlane.engine.changes.effect import EditExtent, Effect, Moved, Who
from justlane.engine.changes.guards import Refusal
from justlane.model.edits import (
    AllowInRole,
    DropRole,
    Edit,
    Enable,
    Give,
    Join,
    KeepInRole,
    Leave,
    LeaveOutOfRole,
    Publish,
    Unpublish,
    Withdraw,
)
from justlane.model.names import counted, some_of
from justlane.reports.outputs.answers import Edit as EditJson
from justlane.reports.outputs.answers import Effect as EffectJson
from justlane.reports.outputs.answers import Extent as ExtentJson
from justlane.reports.outputs.answers import Moved as MovedJson
from justlane.reports.outputs.answers import Who as WhoJson
from justlane.reports.parts import chains
from justlane.reports.text.lines import Line, line

_MOST_NAMED = 4
_MOST_WHO = 2


def plain_edit(edit: Edit) -> EditJson:
    """An edit as JSON values; what does not belong to its kind is null."""
    found: EditJson = {
        "edit": cast(Any, type(edit).__struct_config__.tag),
        "bindings": [],
        "platform": None,
        "role": None,
        "action": None,
        "group": None,
        "scope": None,
        "user": None,
    }
    match edit:
        case Give() | Withdraw():
            found["bindings"] = [chains.plain_binding(b) for b in edit.bindings]
        case AllowInRole() | LeaveOutOfRole():
            found["platform"] = edit.platform
            found["role"] = edit.role
            found["action"] = edit.action
        case KeepInRole():
            found["platform"] = edit.platform
            found["role"] = edit.role
            found["action"] = edit.pattern.text
        case DropRole():
            found["platform"] = edit.platform
            found["role"] = edit.role
        case Publish() | Unpublish():
            found["scope"] = edit.scope
        case Join() | Leave():
            found["user"] = edit.login
            found["group"] = str(edit.group)
        case Enable():
            found["user"] = edit.login
    return found


def plain_effect(effect: Effect) -> EffectJson:
    """What an edit does, as JSON values."""
    return {
        "people": effect.people,
        "gaining": _plain_who(effect.gaining),
        "losing": _plain_who(effect.losing),
        "gained": effect.gained,
        "lost": effect.lost,
        "gains": [_plain_moved(moved) for moved in effect.gains],
        "losses": [_plain_moved(moved) for moved in effect.losses],
    }


def _plain_who(who: Who) -> WhoJson:
    return {"people": who.people, "named": list(who.named)}


def _plain_moved(moved: Moved) -> MovedJson:
    return {"action": moved.action, "sensitive": moved.sensitive, "people": moved.people, "cells": moved.cells}


def effect_text(effect: Effect) -> str:
    """`gives 12 cells to ada.brook, ben.ferry and 2 more: sensitive update-firmware 4, read-log 8`."""
    parts = []
    if effect.gains:
        parts.append(f"gives {counted(effect.gained, 'cell')} to {_who(effect.gaining)}: {_named(effect.gains)}")
    if effect.losses:
        parts.append(f"takes {counted(effect.lost, 'cell')} from {_who(effect.losing)}: {_named(effect.losses)}")
    return "; ".join(parts)


def plain_extent(extent: EditExtent) -> ExtentJson:
    """How far an edit can reach, as JSON values."""
    return {"people": extent.people, "places": extent.places}


def extent_text(extent: EditExtent | None) -> str:
    """Of an edit whose cells were not counted: how far it can reach."""
    people, places = (extent.people, extent.places) if extent else (0, 0)
    return f"reaches {counted(people, 'person', 'people')} at {counted(places, 'place')}, too many to count here"


def _who(who: Who) -> str:
    """A few of them by name, and how many there are besides."""
    if who.people > _MOST_WHO:
        return some_of(who.named, _MOST_WHO, who.people)
    return " and ".join(who.named[:_MOST_WHO])


def _named(moved: Sequence[Moved]) -> str:
    named = [f"{'sensitive ' if m.sensitive else ''}{m.action} {m.cells:,}" for m in moved[:_MOST_NAMED]]
    left = moved[_MOST_NAMED:]
    more = f" and {counted(len(left), 'action')} more" if left else ""
    return ", ".join(named) + more


def against_all(some: Iterable[Sequence[Refusal]]) -> list[str]:
    """What speaks against each of several edits, whichever way it comes about."""
    said = [[refusal.short or refusal.message for refusal in refusals] for refusals in some]
    return [one for one in dict.fromkeys(said[0]) if all(one in others for others in said)] if said[1:] else []


def against(refusals: Sequence[Refusal], but: Collection[str]) -> Iterator[Line]:
    """What speaks against one edit, but for what is said of all."""
    for said in dict.fromkeys(refusal.short or refusal.message for refusal in refusals):
        if said not in but:
            yield line(("     against  ", "warn"), said, hanging=" " * 14)
