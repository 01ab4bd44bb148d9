"""A YAML text as nodes that know where they begin and end, so that a change touches nothing else.

The parsers are those of `reading.yamlnodes`, libyaml where it is sure to see what ruamel.yaml sees (YAML 1.2,
yaml.org/spec/1.2.2). Ends are those of the content: neither blank lines nor comments behind a value belong to it.
"""

from __future__ import annotations

import re
from collections.abc import Iterable, Iterator
from typing import Any

from justlane.files.reading.yamlnodes import events
from justlane.files.reading.yamltext import NULLS, Plain

_BREAK = re.compile(r"\r\n|\n|\r")


class Lines:
    """The lines of a text, by the offsets in them."""

    def __init__(self, content: str) -> None:
        self._content = content
        self._ends = [(found.start(), found.end()) for found in _BREAK.finditer(content)]
        self.starts = [0, *(end for _, end in self._ends)]
        self.newline = self._commonest()

    def _commonest(self) -> str:
        """How most lines end."""
        crlf = self._content.count("\r\n")
        return "\r\n" if crlf * 2 > len(self._ends) else "\n"

    def number(self, offset: int) -> int:
        """The line, from 0, in which an offset lies."""
        from bisect import bisect_right

        return bisect_right(self.starts, offset) - 1

    def start(self, offset: int) -> int:
        """Where the line of an offset starts."""
        return self.starts[self.number(offset)]

    def end(self, offset: int) -> int:
        """Where the line of an offset ends, before its break."""
        number = self.number(offset)
        return self._ends[number][0] if number < len(self._ends) else len(self._content)

    def after(self, offset: int) -> int:
        """Where the next line starts, or the text ends."""
        number = self.number(offset)
        return self._ends[number][1] if number < len(self._ends) else len(self._content)


class TextNode:
    """A value: text, items or pairs, with where it begins and ends."""

    __slots__ = ("alias", "end", "flow", "items", "kind", "start", "style", "value")

    def __init__(self, kind: str, start: int, end: int) -> None:
        self.kind, self.start, self.end = kind, start, end
        self.value = ""
        self.style: str | None = None
        self.flow = False
        self.items: list[TextNode] = []
        """Of a list its items, of a mapping its keys and values in turn."""
        self.alias = False
        """Whether an anchor or an alias makes it stand in several places."""

    def pairs(self) -> Iterator[tuple[TextNode, TextNode]]:
        """Of a mapping: each key with its value."""
        return zip(self.items[::2], self.items[1::2], strict=True)

    def keys(self) -> dict[str, int]:
        """Of a mapping: key -> its position."""
        return {key.value: place for place, key in enumerate(self.items[::2])}

    def pair(self, key: str) -> tuple[TextNode, TextNode] | None:
        """A key and its value."""
        return next((pair for pair in self.pairs() if pair[0].value == key), None)

    @property
    def empty(self) -> bool:
        """Whether nothing stands there."""
        return self.kind == "scalar" and not self.style and self.value in NULLS

    @property
    def plain(self) -> Plain:
        """The value without its places."""
        if self.kind == "list":
            return [item.plain for item in self.items]
        if self.kind == "mapping":
            return {key.value: value.plain for key, value in self.pairs()}
        return None if self.empty else self.value


def nodes_of(content: str) -> TextNode:
    """The nodes of a text with one document. NotYamlError if it is none; an empty text is an empty scalar."""
    top = TextNode("list", 0, len(content))
    above: list[TextNode] = [top]
    anchors: dict[str, TextNode] = {}
    for kind, event in events(content):
        inside = above[-1]
        if kind == "end":
            node = above.pop()
            node.end = event.end_mark.index if node.flow else _last(node.items, node.end)
            continue
        node = _node(kind, event, content)
        if kind == "alias":
            known = anchors.get(event.anchor)
            node.alias = True
            if known is not None:
                known.alias = True
                node.kind, node.value, node.items = known.kind, known.value, known.items
        elif event.anchor:
            anchors[event.anchor] = node
        inside.items.append(node)
        if kind in ("list", "mapping"):
            above.append(node)
    return top.items[0] if top.items else TextNode("scalar", 0, 0)


def _node(kind: str, event: Any, content: str) -> TextNode:
    node = TextNode(kind, event.start_mark.index, event.end_mark.index)
    if kind == "scalar":
        node.value, node.style = event.value, event.style
        if node.style in ("|", ">"):
            node.end = max(node.start, _without_blank(content, node.end))
    elif kind in ("list", "mapping"):
        node.flow = bool(event.flow_style)
    return node


def _last(items: Iterable[TextNode], otherwise: int) -> int:
    return max((item.end for item in items), default=otherwise)


def _without_blank(content: str, end: int) -> int:
    while end and content[end - 1] in " \t\r\n":
        end -= 1
    return end
