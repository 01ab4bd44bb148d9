"""Kind of result -> how it is drawn."""

from __future__ import annotations

from importlib import import_module
from typing import TYPE_CHECKING, Any

from justlane.reports.pictures.paper import render_picture

if TYPE_CHECKING:
    from collections.abc import Callable

    from matplotlib.figure import Figure

_FIELDS, _BARS = "justlane.reports.pictures.fields", "justlane.reports.pictures.bars"
DRAWN = {
    "Grid": (_FIELDS, "grid"),
    "Glance": (_FIELDS, "glance"),
    "administrators": (_BARS, "administrators"),
    "sensitive": (_BARS, "sensitive"),
    "roles": (_BARS, "roles"),
    "changes": (_BARS, "changes"),
    "survey": (_BARS, "survey"),
    "flow": ("justlane.reports.pictures.stream", "flow"),
}


def picture(kind: str, result: Any, form: str) -> bytes:
    """A result as a picture, `png` or `svg`."""
    module, name = DRAWN[kind]
    draw: Callable[[Any], Figure] = getattr(import_module(module), name)
    return render_picture(draw(result), form)
