"""Words on a command line: quoted so that bash, zsh and fish all take them as what they are, whoever wrote them.

Whatever is printed to be pasted, or completed, goes through here: a name of an estate may hold any sign, and none of it
must be carried out.
"""

from __future__ import annotations

import re

_PLAIN = re.compile(r"[A-Za-z0-9@%+:,./_-][A-Za-z0-9@%+:,./_=-]*")
"""Nothing of this means anything to a shell; a word that begins with `=` does to zsh."""
_PIECES = re.compile(r"[^'\\]+|['\\]")


def quoted(word: str) -> str:
    """One word, as it is to be typed.

    `it's` becomes `'it'\\''s'`. A backslash stands outside of the quotes too, since fish takes it for an escape inside.
    """
    if _PLAIN.fullmatch(word):
        return word
    return "".join(f"\\{piece}" if piece in ("'", "\\") else f"'{piece}'" for piece in _PIECES.findall(word)) or "''"


def escaped(word: str) -> str:
    """The same without quotes, so that it goes on as it was begun: for a shell that completes it."""
    return "".join(letter if letter.isalnum() or letter in "@%+:,./_-" else f"\\{letter}" for letter in word)


def spelt(*words: str) -> str:
    """A command of justlane as it is to be typed."""
    return " ".join(map(quoted, ("justlane", *words)))
