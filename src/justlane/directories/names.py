"""Distinguished names (RFC 4514), brought to one form so that two ways to write one name compare equal."""

from __future__ import annotations

import re
from functools import lru_cache

_SEPARATORS = re.compile(r"(?<!\\)(?:\\\\)*[,+]")
_ESCAPED = re.compile(r"(?:\\[0-9a-fA-F]{2})+|\\(.)", re.DOTALL)
_SPECIAL = re.compile(r"[\\,+]")


@lru_cache(maxsize=65536)
def normalise(name: str) -> str:
    """Lower case, without spaces around separators, escapes resolved.

    Attribute values are compared without regard to case and runs of spaces, as the matching rule
    caseIgnoreMatch does (RFC 4517), which covers the naming attributes in use.
    """
    steps: list[list[str]] = [[]]
    start = 0
    for separator in _SEPARATORS.finditer(name):
        steps[-1].append(_assertion(name[start : separator.end() - 1]))
        if separator.group()[-1] == ",":
            steps.append([])
        start = separator.end()
    steps[-1].append(_assertion(name[start:]))
    return ",".join("+".join(sorted(step)) for step in steps)  # a step of several values is a set (RFC 4514, 2.2)


def _assertion(text: str) -> str:
    kind, equals, value = text.partition("=")
    value = _ESCAPED.sub(_unescaped, value.strip())
    return f"{kind.strip().lower()}{equals}{_SPECIAL.sub(_escaped, ' '.join(value.lower().split()))}"


def _unescaped(match: re.Match[str]) -> str:
    return match.group(1) or bytes.fromhex(match.group().replace("\\", "")).decode("utf-8", "replace")


def _escaped(match: re.Match[str]) -> str:
    return "\\" + match.group()
