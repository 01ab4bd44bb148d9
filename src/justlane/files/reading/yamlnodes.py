"""YAML text to nodes with their marks: by a parser in C where that is sure to see what the one in Python sees.

libyaml knows YAML 1.1, ruamel.yaml YAML 1.2 (yaml.org/spec/1.2.2). Where the two may read a text differently (tabs,
anchors and tags, directives, line ends that only 1.1 knows, a colon right after a quoted word) and where libyaml finds
a mistake, YAML 1.2 holds: the text is read, and its mistakes are worded, by ruamel.yaml.
"""

from __future__ import annotations

import re
from collections.abc import Iterable, Iterator, Sequence
from contextlib import contextmanager
from typing import Any, Protocol

_CONTROLS = re.compile(r"[\t\x00-\x08\x0b\x0c\x0e-\x1f\x7f-\x9f\u2028\u2029\ufeff\ud800-\udfff]")
_GLUED = re.compile(r"""["']:(?!\s)""")
_MARKED = re.compile(r"(?:^|[\s\[{,])[&*!]")


def is_odd(content: str) -> bool:
    """Whether two parsers may read a text differently: then its parts are not read one by one either.

    Each is looked for only where its character is there at all: a single expression for all takes as long as parsing.
    """
    return (
        _CONTROLS.search(content) is not None
        or content.startswith("%")
        or any(f"{end}%" in content for end in "\r\n")
        or (('":' in content or "':" in content) and _GLUED.search(content) is not None)
        or (any(mark in content for mark in "&*!") and _MARKED.search(content) is not None)
    )


class Mark(Protocol):
    """A place in a text."""

    line: int
    """From 0."""
    column: int
    """From 0, in characters."""


class Node(Protocol):
    """A scalar, a sequence or a mapping."""

    id: str
    """`scalar`, `sequence` or `mapping`."""
    value: Any
    """Text, nodes, or pairs of nodes."""
    style: str | None
    """Of a scalar: how it is quoted; nothing for a plain one."""
    start_mark: Mark


class NotYamlError(Exception):
    """A text is not YAML."""

    def __init__(self, problem: str, line: int, column: int, hint: str = "") -> None:
        super().__init__(problem)
        self.problem, self.hint = problem, hint
        self.line, self.column = line, column
        """From 1."""


def compose(content: str) -> Node | None:
    """The node of the only document; None for an empty one. NotYamlError or RecursionError."""
    if not is_odd(content):
        found = _by_libyaml(content)
        if found:
            return found[0]
    return _by_ruamel(content)


def events(content: str) -> Iterator[tuple[str, Any]]:
    """The events of the only document that open or close something, each with its kind: `scalar`, `list`, `mapping`,
    `alias`, `end`. NotYamlError if it is none."""
    try:
        yield from _kinds(_events_by_libyaml(content) if not is_odd(content) else _events_by_ruamel(content))
    except _OtherwiseError:
        yield from _kinds(_events_by_ruamel(content))


_KINDS = {"Scalar": "scalar", "SequenceStart": "list", "MappingStart": "mapping", "Alias": "alias"}
_KINDS |= {"SequenceEnd": "end", "MappingEnd": "end"}


def _kinds(found: Iterable[Any]) -> Iterator[tuple[str, Any]]:
    for event in found:
        kind = _KINDS.get(type(event).__name__.removesuffix("Event"))
        if kind:
            yield kind, event


class _OtherwiseError(Exception):
    """libyaml cannot say."""


@contextmanager
def _libyaml(content: str) -> Iterator[Iterator[Any]]:
    """The events of a whole stream. _OtherwiseError where libyaml finds a mistake, or PyYAML was built without it."""
    try:
        from yaml import CBaseLoader, YAMLError
    except ImportError as error:
        raise _OtherwiseError from error
    loader = CBaseLoader(content)
    try:
        yield iter(loader.get_event, None)
    except (YAMLError, ValueError, RecursionError) as error:
        raise _OtherwiseError from error
    finally:
        loader.dispose()


def _events_by_libyaml(content: str) -> list[Any]:
    with _libyaml(content) as found:
        return list(found)


def _events_by_ruamel(content: str) -> list[Any]:
    from ruamel.yaml import YAML
    from ruamel.yaml.error import MarkedYAMLError, YAMLError

    try:
        return list(YAML(typ="safe", pure=True).parse(content))
    except (YAMLError, ValueError) as error:
        mark = error.problem_mark if isinstance(error, MarkedYAMLError) else None
        line, column = (mark.line + 1, mark.column + 1) if mark is not None else (1, 1)
        raise NotYamlError(f"this is not YAML: {error}", line, column) from error


class _Built:
    """A node that was built from events, which are quicker to come by than nodes."""

    __slots__ = ("id", "start_mark", "style", "value")

    def __init__(self, kind: str, value: Any, style: str | None, start_mark: Mark) -> None:
        self.id, self.value, self.style, self.start_mark = kind, value, style, start_mark


def _by_libyaml(content: str) -> Sequence[Node | None]:
    """The node in a list; an empty list where libyaml cannot say."""
    try:
        with _libyaml(content) as found:
            return _built(found)
    except _OtherwiseError:
        return []


def _built(events: Iterator[Any]) -> list[Node | None]:
    """The node of the only document, from the events of a whole stream; nothing where there are several documents."""
    from yaml import DocumentStartEvent, MappingStartEvent, ScalarEvent, SequenceStartEvent, StreamEndEvent
    from yaml.events import CollectionEndEvent

    top: list[Any] = []
    inside, above = top, list[list[Any]]()
    documents = 0
    for event in events:
        kind = type(event)
        if kind is ScalarEvent:
            inside.append(_Built("scalar", event.value, event.style, event.start_mark))
        elif kind is MappingStartEvent or kind is SequenceStartEvent:
            node = _Built("mapping" if kind is MappingStartEvent else "sequence", [], None, event.start_mark)
            inside.append(node)
            above.append(inside)
            inside = node.value
        elif isinstance(event, CollectionEndEvent):
            inside = above.pop()
            if inside[-1].id == "mapping":
                flat = inside[-1].value
                inside[-1].value = list(zip(flat[::2], flat[1::2], strict=True))
        elif kind is DocumentStartEvent:
            documents += 1
        elif kind is StreamEndEvent:
            break
    return (top or [None]) if documents < 2 else []


def _by_ruamel(content: str) -> Node | None:
    from ruamel.yaml import YAML
    from ruamel.yaml.error import MarkedYAMLError, YAMLError
    from ruamel.yaml.reader import ReaderError

    try:
        node: Node | None = YAML(typ="safe", pure=True).compose(content)
        return node
    except ReaderError as error:
        raise NotYamlError(f"found a control character that no text holds: {error.reason}", 1, 1) from error
    except (YAMLError, ValueError) as error:
        mark = (error.problem_mark or error.context_mark) if isinstance(error, MarkedYAMLError) else None
        if not isinstance(error, MarkedYAMLError) or mark is None:
            raise NotYamlError(f"this is not YAML: {error}", 1, 1) from error
        problem = " ".join(str(part) for part in (error.context, error.problem) if part)
        hint = "tabs cannot indent YAML: use spaces" if "\\t" in problem else "look at this line and the one above"
        raise NotYamlError(f"this is not YAML: {problem}", mark.line + 1, mark.column + 1, hint) from error
