"""Names: the nearest real ones to a name that does not exist, those like a pattern, and what can be shown of one."""

from __future__ import annotations

import re
from collections.abc import Callable, Collection, Sequence
from unicodedata import category

from justlane.model.patterns import is_like
from justlane.model.secrecy import without_secrets

LONGEST = 200
"""Characters of a name; nothing real is nearest to a longer one."""


def nearest(name: str, known: Collection[str], most: int = 1) -> list[str]:
    """Up to `most` names of `known` that resemble `name`, the most alike first.

    Similarity is Jaro-Winkler (Winkler 1990), ignoring case, from 0.8 on; where nothing reaches that, the optimal
    string alignment distance, from 0.6 on, which forgives two swapped letters in a short word.
    """
    from rapidfuzz import process, utils
    from rapidfuzz.distance import OSA, JaroWinkler

    if len(name) > LONGEST:
        return []
    name = name.encode("utf-8", "replace").decode()
    names = list(known)
    for scorer, cutoff in ((JaroWinkler.normalized_similarity, 0.8), (OSA.normalized_similarity, 0.6)):
        found = process.extract(
            name, names, scorer=scorer, processor=utils.default_process, score_cutoff=cutoff, limit=most + 5
        )
        if found:
            choices = [choice for choice, _, _ in found]
            return sorted(choices, key=lambda choice: OSA.distance(name.lower(), choice.lower()))[:most]
    return []


def some_of(names: Sequence[str], most: int, of: int | None = None) -> str:
    """A few of some names, and how many more there are: of those, or of `of` where not all are at hand."""
    left = (len(names) if of is None else of) - most
    return ", ".join(names[:most]) + (f" and {left:,} more" if left > 0 else "")


def did_you_mean(name: str, known: Collection[str], otherwise: str = "") -> str:
    """A hint that names the nearest real name, or says something else when none is near."""
    close = nearest(name, known, 3)
    if not close:
        return otherwise
    return f"did you mean {' or '.join(close)}?"


def words_like(part: str, names: Collection[str]) -> str:
    """A hint that names the words, within names, that resemble a part of one."""
    return did_you_mean(part, dict.fromkeys(word for name in names for word in re.split(r"[^\w]+|_", name) if word))


def fitting(pattern: str) -> Callable[[str], bool]:
    """Whether a name contains a text or, where that has `*` for any run of characters, is like it as a whole.

    Capitals do not matter.
    """
    wanted = pattern.casefold()
    if "*" not in wanted:
        return lambda name: wanted in name.casefold()
    return lambda name: is_like(wanted, name.casefold())


def one_line(text: str) -> str:
    """What others wrote, safe to keep: on one line, without secrets and characters that a terminal would obey."""
    text = without_secrets(text)
    if text.isprintable():
        return text
    return " ".join("".join(letter if letter.isprintable() else " " for letter in text).split())


def can_be_shown(name: str) -> bool:
    """Whether a name is nothing but letters, signs and spaces of any script, no secret, and no step of an address."""
    if name in (".", "..") or len(name) > LONGEST or without_secrets(name) != name:
        return False
    return name.isprintable() or all(letter.isprintable() or category(letter) == "Zs" for letter in name)


def counted(number: int, one: str, many: str = "") -> str:
    """`1 scope`, `2 scopes`, `2 entries`."""
    return f"{number:,} {one if number == 1 else many or one + 's'}"
