"""Names that were meant: the nearest real ones to a name that does not exist."""

from __future__ import annotations

from collections.abc import Collection


def nearest(name: str, known: Collection[str], most: int = 1) -> list[str]:
    """Up to `most` names of `known` that resemble `name`, the most alike first.

    Similarity is Jaro-Winkler (Winkler 1990), ignoring case; what resembles less than 0.8 is left out.
    """
    from rapidfuzz import process, utils
    from rapidfuzz.distance import JaroWinkler

    found = process.extract(
        name,
        list(known),
        scorer=JaroWinkler.normalized_similarity,
        processor=utils.default_process,
        score_cutoff=0.8,
        limit=most,
    )
    return [choice for choice, _, _ in found]


def did_you_mean(name: str, known: Collection[str], otherwise: str = "") -> str:
    """A hint that names the nearest real name, or says something else when none is near."""
    close = nearest(name, known, 3)
    if not close:
        return otherwise
    return f"did you mean {' or '.join(close)}?"
