"""Edits and what they do, in words and as JSON values."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

from justlane.engine.changes.effect import Effect, Moved
from justlane.model.edits import AllowInRole, Edit, Enable, Give, Join, KeepInRole, Publish, Withdraw
from justlane.model.names import counted
from justlane.reports import chains

_MOST_NAMED = 4


def plain_edit(edit: Edit) -> dict[str, Any]:
    """An edit as JSON values; what does not belong to its kind is null."""
    found: dict[str, Any] = {
        "edit": type(edit).__struct_config__.tag,
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
        case AllowInRole():
            found |= {"platform": edit.platform, "role": edit.role, "action": edit.action}
        case KeepInRole():
            found |= {"platform": edit.platform, "role": edit.role, "action": edit.pattern.text}
        case Publish():
            found |= {"group": f"group {edit.group}", "scope": edit.scope}
        case Join():
            found |= {"user": edit.login, "group": str(edit.group)}
        case Enable():
            found |= {"user": edit.login}
    return found


def plain_effect(effect: Effect) -> dict[str, Any]:
    """What an edit does, as JSON values."""
    return {
        "people": effect.people,
        "gained": effect.gained,
        "lost": effect.lost,
        "gains": [_plain_moved(moved) for moved in effect.gains],
        "losses": [_plain_moved(moved) for moved in effect.losses],
    }


def _plain_moved(moved: Moved) -> dict[str, Any]:
    return {"action": moved.action, "sensitive": moved.sensitive, "people": moved.people, "cells": moved.cells}


def effect_text(effect: Effect) -> str:
    """`brings 3 people 12 cells: sensitive update-firmware 4, read-log 8`; nothing for a single cell."""
    parts = []
    if effect.gained == 1 and not effect.lost and not effect.gains[0].sensitive:
        return "brings that and nothing else"
    if effect.gains:
        people = counted(max(m.people for m in effect.gains), "person", "people")
        parts.append(f"brings {people} {counted(effect.gained, 'cell')}: {_named(effect.gains)}")
    if effect.losses:
        people = counted(max(m.people for m in effect.losses), "person", "people")
        parts.append(f"takes {counted(effect.lost, 'cell')} from {people}: {_named(effect.losses)}")
    return "; ".join(parts)


def _named(moved: Sequence[Moved]) -> str:
    named = [f"{'sensitive ' if m.sensitive else ''}{m.action} {m.cells:,}" for m in moved[:_MOST_NAMED]]
    left = moved[_MOST_NAMED:]
    more = f" and {counted(len(left), 'action')} more" if left else ""
    return ", ".join(named) + more
