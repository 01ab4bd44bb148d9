"""Conditions as a person types them, in the words of the files: `from network 192.0.2.0/24`, `multi-factor yes`."""

from __future__ import annotations

from collections.abc import Iterable

from justlane.files.in_place.scalars import Value
from justlane.model.circumstances import CONDITION_PARTS
from justlane.model.errors import UsageError

_PARTS = {part.key: part for part in CONDITION_PARTS}
_KEYS = sorted(_PARTS, key=len, reverse=True)


def condition_in(texts: Iterable[str]) -> dict[str, Value]:
    """What `when` is to hold; several of one key make a list. UsageError for what is none."""
    found: dict[str, list[str]] = {}
    for text in texts:
        key = next((key for key in _KEYS if text == key or text.startswith((f"{key} ", f"{key}:"))), None)
        if key is None:
            raise UsageError(f"--when: found {text!r}", f"it begins with one of: {', '.join(sorted(_KEYS))}")
        rest = text[len(key) :].lstrip(":").strip()
        words = [word.strip() for word in rest.split(",") if word.strip()]
        if not words and _PARTS[key].implied:
            words = [_PARTS[key].implied]
        if not words:
            raise UsageError(f"--when: {key!r} says nothing", f"say what, such as --when '{key} …'")
        found.setdefault(key, []).extend(words)
    return {key: words[0] if len(words) == 1 or _PARTS[key].single else words for key, words in found.items()}
