"""Values written as YAML (1.2, yaml.org/spec/1.2.2): as few quotes as will do, never a longer form than needed."""

from __future__ import annotations

import json
import re
from collections.abc import Mapping, Sequence

Value = str | Sequence["Value"] | Mapping[str, "Value"]
"""What can be written: text, lists and mappings."""

_PLAIN = re.compile(
    r"[\w(/.+<][^\x00-\x1f\x7f-\x9f\u2028\u2029\ufeff\ud800-\udfff#:]*(?:[:#](?=[^\s\x00-\x1f])[^\x00-\x1f#:]*)*"
)
"""What needs no quotes where the line is its own; checked again in its place."""
_OTHER = re.compile(r"[-+.\d][\d_.,:eExXoO+-]*|~|null|true|false|yes|no|on|off|y|n|\.inf|\.nan|<<|=", re.IGNORECASE)
"""What some readers take for something else than text."""
_A_DATE = re.compile(r"\d{4}-\d\d-\d\d")
_WIDE = 80
"""So wide a line of a list of words is before it goes on in the next."""
_IN_FLOW = set(",[]{}")
_WORDS = {"yes", "no"}


def few(some: Sequence[str]) -> Value:
    """One alone, several as a list."""
    return some[0] if len(some) == 1 else list(some)


def scalar(text: str, *, flow: bool = False) -> str:
    """Text as a scalar, quoted where it has to be."""
    if _needs_none(text) and not (flow and _IN_FLOW & set(text)):
        return text
    if not text.isprintable():
        return json.dumps(text)
    return "'" + text.replace("'", "''") + "'" if '"' in text or "\\" in text else f'"{text}"'


def _needs_none(text: str) -> bool:
    if not _PLAIN.fullmatch(text) or text != text.strip() or not text.isprintable():
        return False
    odd = _OTHER.fullmatch(text) and not _A_DATE.fullmatch(text) and text not in _WORDS
    return not odd and " #" not in text and ": " not in text and not text.endswith(":")


def in_flow(value: Value) -> str:
    """A value on one line, lists in brackets and mappings in braces."""
    if isinstance(value, str):
        return scalar(value, flow=True)
    if isinstance(value, Mapping):
        return "{" + ", ".join(f"{scalar(key, flow=True)}: {in_flow(item)}" for key, item in value.items()) + "}"
    return "[" + ", ".join(map(in_flow, value)) + "]"


def in_block(value: Mapping[str, Value], step: int = 2) -> list[str]:
    """The lines of a mapping: lists of words and small mappings on one line, what holds mappings below its key."""
    lines: list[str] = []
    for key, item in value.items():
        if isinstance(item, Mapping) and any(isinstance(inner, Mapping) for inner in item.values()):
            lines.append(f"{scalar(key)}:")
            lines += [" " * step + line for line in in_block(item, step)]
        elif not isinstance(item, str | Mapping) and any(isinstance(inner, Mapping) for inner in item):
            lines.append(f"{scalar(key)}:")
            lines += [" " * step + line for inner in item for line in item_lines(inner, step)]
        else:
            lines += _on_lines(f"{scalar(key)}: ", item)
    return lines


def _on_lines(key: str, item: Value) -> list[str]:
    """A key with its value, on one line if it is not too long; a longer list of words goes on below its first one."""
    text = item_text(item)
    if len(key) + len(text) <= _WIDE or isinstance(item, str):
        return [key + text]
    if isinstance(item, Mapping):
        return [key.rstrip(), *(f"  {line}" for line in in_block(item))]
    lines = [f"{key}["]
    for number, word in enumerate(item):
        said = in_flow(word) + ("]" if number == len(item) - 1 else ",")
        room = _WIDE - len(lines[-1]) - len(said)
        if number and room <= 0:
            lines.append(" " * (len(key) + 1) + said)
        else:
            lines[-1] += f" {said}" if number else said
    return lines


def item_lines(value: Value, step: int = 2) -> list[str]:
    """The lines of an item of a list, its dash included."""
    if not isinstance(value, Mapping) or not value:
        return [f"- {item_text(value)}"]
    first, *rest = in_block(value, step)
    return [f"- {first}", *(f"  {line}" for line in rest)]


def item_text(item: Value) -> str:
    """What stands behind a key, on its line."""
    return scalar(item) if isinstance(item, str) else in_flow(item)
