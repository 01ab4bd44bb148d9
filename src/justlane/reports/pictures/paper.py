"""What all pictures have in common: size, type, colours, how they are written.

Colours are from the palette of Okabe and Ito (2008), which colour-blind eyes tell apart; they differ in lightness too,
and hatching says the same once more, so that nothing is lost in grey.
"""

from __future__ import annotations

import io
from functools import lru_cache
from typing import TYPE_CHECKING

from justlane.model.secrecy import without_secrets
from justlane.model.visible import shown

if TYPE_CHECKING:
    from matplotlib.figure import Figure

BLUE, SKY, ORANGE, GREY, INK, PALE = "#0072B2", "#56B4E9", "#E69F00", "#999999", "#222222", "#F2F2F2"
WIDTH, HEIGHT, DOTS = 12.8, 8.0, 100
"""Inches, and dots an inch: 1280x800."""
_FONT = "DejaVu Sans"


def figure(title: str, about: str = "") -> Figure:
    """An empty picture with its title, and what else is to be known in small."""
    from matplotlib import rcParams
    from matplotlib.figure import Figure

    rcParams.update({"font.size": 10, "font.family": _FONT, "svg.hashsalt": "justlane", "hatch.linewidth": 0.6})
    drawn = Figure(figsize=(WIDTH, HEIGHT), dpi=DOTS, facecolor="white")
    drawn.suptitle(plain_text(title), x=0.02, y=0.975, ha="left", fontsize=14, fontweight="bold", color=INK)
    if about:
        drawn.text(0.02, 0.925, plain_text(about), ha="left", va="top", fontsize=9.5, color="#555555")
    return drawn


def plain_text(text: str) -> str:
    """Text from an estate as it can stand in a picture: nothing in it is a formula or a control character, and what the
    font cannot draw is written by its number."""
    known = _known_signs()
    signs = (sign if ord(sign) in known else f"U+{ord(sign):04X}" for sign in shown(without_secrets(text)))
    return "".join(signs).replace("$", r"\$")


@lru_cache(maxsize=1)
def _known_signs() -> frozenset[int]:
    """The signs that the font has."""
    from matplotlib.font_manager import findfont, get_font

    return frozenset(get_font(findfont(_FONT)).get_charmap())


def short_name(name: str, room: int) -> str:
    """A name cut in its middle to so many characters."""
    if len(name) <= room:
        return name
    head = (room - 1) // 3
    return f"{name[:head]}…{name[-(room - 1 - head) :]}"


def render_picture(drawn: Figure, form: str) -> bytes:
    """The picture as a file, the same for the same result."""
    file = io.BytesIO()
    none = {"Date": None} if form == "svg" else {"Software": None}
    drawn.savefig(file, format=form, metadata=none)
    return file.getvalue()
