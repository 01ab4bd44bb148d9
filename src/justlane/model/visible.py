"""What others wrote, on its way to a terminal or a file: no control character, no sign that turns the writing direction
and no secret in force gets there as such."""

from __future__ import annotations

from unicodedata import category

from justlane.model.secrecy import without_secrets

_JOINERS = "\u200c\u200d"
"""Signs that some scripts need inside words; they move nothing."""


def _harmless(letter: str) -> bool:
    return letter.isprintable() or letter in _JOINERS or category(letter) == "Zs"


def _escape(letter: str) -> str:
    number = ord(letter)
    if 0xDC80 <= number <= 0xDCFF:  # a byte that is no text
        return f"\\x{number - 0xDC00:02x}"
    return f"\\x{number:02x}" if number < 0x100 else f"\\u{number:04x}" if number < 0x10000 else f"\\U{number:08x}"


def visible(text: str) -> str:
    """Text on one line: what is no sign to be read stands as `\\x1b`."""
    if text.isprintable():
        return text
    return "".join(letter if _harmless(letter) else _escape(letter) for letter in text)


def visible_lines(text: str) -> str:
    """The same with its line ends kept."""
    return "\n".join(map(visible, text.split("\n")))


def shown(text: str) -> str:
    """Text as it may be shown: on one line, visible, without secrets."""
    return visible(without_secrets(text))


def short(text: str, most: int) -> str:
    """Text that may be very long, short enough to be read."""
    return text if len(text) <= most else f"{text[:most]}… ({len(text):,} characters)"


def json_visible(text: str) -> str:
    """JSON text in which nothing stands that a terminal obeys: such characters can only be inside its strings."""
    if all(line.isprintable() for line in text.split("\n")):
        return text
    return "".join(letter if letter == "\n" or _harmless(letter) else _json_escape(letter) for letter in text)


def _json_escape(letter: str) -> str:
    number = ord(letter)
    if number < 0x10000:
        return f"\\u{number:04x}"
    number -= 0x10000
    return f"\\u{0xD800 + (number >> 10):04x}\\u{0xDC00 + (number & 0x3FF):04x}"


FORMULA = "=+-@\t\r"
"""A cell that begins with one of these is a formula to a spreadsheet."""


def cell(value: object) -> object:
    """A cell of a table for a spreadsheet: text that would be taken for a formula gets a `'` in front."""
    if not isinstance(value, str):
        return value
    return f"'{shown(value)}" if value.lstrip("'")[:1] in FORMULA and value.lstrip("'") else shown(value)


def uncell(text: str) -> str:
    """What a cell said before `cell` made it harmless."""
    rest = text.lstrip("'")
    return text[1:] if rest != text and rest[:1] and rest[:1] in FORMULA else text
