"""YAML text to plain values, remembering the line and column of every key and value.

All scalars stay text, as they are written: what a value means is decided by its place (`shapes`), not by how
it looks. YAML 1.2 (yaml.org/spec/1.2.2).
"""

from __future__ import annotations

import re
from collections.abc import Collection, Sequence
from dataclasses import dataclass, field
from itertools import accumulate
from pathlib import Path

from justlane.files.disk import beneath
from justlane.files.reading.file_parts import Part, Standing, fits, parts_of
from justlane.files.reading.named_files import digest_of
from justlane.files.reading.yamlnodes import Node, NotYamlError, compose
from justlane.model.findings import Finding, Severity, Source

Where = tuple[str | int, ...]
"""The keys and list positions that lead to a value."""
Plain = str | None | list["Plain"] | dict[str, "Plain"]

MOST_VALUES_THROUGH_ALIASES = 10_000
MOST_LEVELS = 100
"""Values in values: deeper than any estate, and shallow enough for whatever walks through them."""
MOST_BYTES = 64 << 20
_MOST_OPEN = 1000
NULLS = {"", "~", "null", "Null", "NULL"}


@dataclass
class Text:
    """One file, read. `value` is None if it could not be read at all."""

    file: str
    value: Plain = None
    digest: str = ""
    """Digest of the content that was read."""
    keys: dict[Where, Source] = field(default_factory=dict)
    values: dict[Where, Source] = field(default_factory=dict)
    findings: list[Finding] = field(default_factory=list)
    parts: tuple[Part, ...] = ()
    """Of a long file, what it was cut into, to be read again part by part."""
    standing: Standing | None = None
    """What was not read, since it stands as it did; None if all was read."""

    def source(self, *where: str | int) -> Source:
        """Where a value stands, or the nearest thing around it that stands in the file."""
        while where and where not in self.values:
            where = where[:-1]
        return self.values.get(where, Source(self.file, 1, 1))

    def key(self, *where: str | int) -> Source:
        """Where the key of a value stands; for a list item, the value itself."""
        return self.keys.get(where) or self.source(*where)

    def close_gaps(self, places: Collection[Where]) -> None:
        """Some items of the lists at the top were taken out: those behind them move up."""
        gone = [where for where in places if len(where) == 2 and isinstance(where[1], int)]

        def moved(where: Where) -> Where:
            if len(where) < 2 or not isinstance(where[1], int):
                return where
            before = sum(section == where[0] and int(place) < where[1] for section, place in gone)
            return (where[0], where[1] - before, *where[2:])

        self.keys = {moved(where): source for where, source in self.keys.items() if where[:2] not in gone}
        self.values = {moved(where): source for where, source in self.values.items() if where[:2] not in gone}

    def wrong(self, rule: str, source: Source, message: str, hint: str = "") -> None:
        """Note an error."""
        self.findings.append(Finding(rule, Severity.ERROR, source, message, hint))


def read(folder: Path, file: str, known: Sequence[Part] = ()) -> Text:
    """Read one file of an estate. Whatever is wrong with it becomes a finding.

    Of a file whose parts are `known` from an earlier time, only those that are others now are read, if that is sound.
    """
    text = Text(file)
    content = _decoded(folder, text)
    if content is None:
        return text
    text.parts = parts_of(content)
    if known and text.parts:
        standing = Standing(known, text.parts)
        some = Text(file, digest=text.digest, parts=text.parts, standing=standing)
        _parse(some, standing.shown(content))
        if not some.findings and _fits(some, standing.read()):
            return some
    _parse(text, content)
    if text.findings or not _fits(text, text.parts):
        text.parts = ()
    return text


def _parse(text: Text, content: str) -> None:
    try:
        _require_shallow(content)
        node = compose(content)
    except (NotYamlError, RecursionError) as error:
        _explain(error, text, content)
        return
    if node is not None:
        _Reader(text).read(node)
    if text.value is None and not text.findings:
        text.wrong("empty-file", text.source(), "the file is empty", "write its sections, or do not include it")


def _fits(text: Text, parts: Sequence[Part]) -> bool:
    def lines(section: str) -> list[int]:
        inside = text.value.get(section) if isinstance(text.value, dict) else None
        if isinstance(inside, list):
            return [text.source(section, place).line for place in range(len(inside))]
        return [text.key(section, name).line for name in inside or ()] if isinstance(inside, dict) else []

    margin = sorted(source.line for where, source in text.keys.items() if len(where) == 1)
    return not parts or fits(parts, margin, lines)


def _decoded(folder: Path, text: Text) -> str | None:
    try:
        content = beneath.read(folder, text.file)
        text.digest = digest_of(content)
        text.file.encode()
    except (OSError, ValueError) as error:
        reason = error.strerror if isinstance(error, OSError) else "its name is not UTF-8"
        text.wrong("unreadable-file", Source(text.file), f"the file cannot be read: {reason}")
        return None
    if len(content) > MOST_BYTES:
        message = f"the file has {len(content):,} bytes, expected at most {MOST_BYTES:,}"
        text.wrong("unreadable-file", Source(text.file), message, "split it: `include` takes many files")
        return None
    try:
        return content.decode("utf-8-sig")
    except UnicodeDecodeError as error:
        line = content.count(b"\n", 0, error.start) + 1
        column = error.start - (content.rfind(b"\n", 0, error.start) + 1) + 1
        found = (
            "a UTF-16 file" if content[:2] in (b"\xff\xfe", b"\xfe\xff") else f"the byte 0x{content[error.start]:02x}"
        )
        text.wrong(
            "encoding", Source(text.file, line, column), f"found {found}, expected UTF-8", "save the file as UTF-8"
        )
        return None


def _require_shallow(content: str) -> None:
    """RecursionError if so many brackets are open at once that the parser would take long to say so."""
    if content.count("[") + content.count("{") > _MOST_OPEN:
        depths = accumulate(1 if bracket in "[{" else -1 for bracket in re.findall(r"[\[\]{}]", content))
        if max(depths) > _MOST_OPEN:
            raise RecursionError


def _deepest(content: str) -> tuple[int, int]:
    """The line and column where a text is indented most, or has most brackets."""
    lines = content.split("\n")
    depths = [(len(line) - len(line.lstrip(" ")), line.count("[") + line.count("{")) for line in lines]
    number = max(range(len(lines)), key=lambda n: max(depths[n]))
    return number + 1, depths[number][0] + 1


def _explain(error: NotYamlError | RecursionError, text: Text, content: str) -> None:
    """Turn a parser's complaint into a finding at its place."""
    if isinstance(error, RecursionError):
        source = Source(text.file, *_deepest(content))
        text.wrong("yaml", source, "the values are nested too deeply to be read", "write them less deep")
    else:
        text.wrong("yaml", Source(text.file, error.line, error.column), error.problem, error.hint)


class _Reader:
    """Walks the nodes of one file and fills its `Text`."""

    def __init__(self, text: Text) -> None:
        self._text = text
        self._open: list[Node] = []
        self._seen: set[int] = set()
        self._again = 0

    def read(self, node: Node) -> None:
        try:
            self._text.value = self._plain(node, ())
        except _TooDeepError:
            message = f"the values are nested more than {MOST_LEVELS} deep here"
            self._text.wrong("yaml", self._source(self._open[MOST_LEVELS]), message, "write them less deep")
        except _TooManyAliasesError:
            source = self._source(self._open[-1])
            most = f"{MOST_VALUES_THROUGH_ALIASES:,}"
            message = f"the aliases here stand for more than {most} values"
            self._text.wrong("alias", source, message, "write the values out, or use a list")
            self._text.value = None

    def _source(self, node: Node) -> Source:
        return Source(self._text.file, node.start_mark.line + 1, node.start_mark.column + 1)

    def _plain(self, node: Node, where: Where) -> Plain:
        if any(node is outer for outer in self._open):
            self._text.wrong("alias", self._source(node), "an alias stands inside the value that it names")
            return None
        self._count(node)
        self._text.values[where] = self._source(node)
        if node.id == "scalar":
            plain = not node.style and node.value in NULLS
            return None if plain else str(node.value)
        self._open.append(node)
        if len(self._open) > MOST_LEVELS:
            raise _TooDeepError
        try:
            if node.id == "sequence":
                return [self._plain(item, (*where, place)) for place, item in enumerate(node.value)]
            return self._mapping(node, where)
        finally:
            if self._again <= MOST_VALUES_THROUGH_ALIASES and len(self._open) <= MOST_LEVELS:
                self._open.pop()

    def _mapping(self, node: Node, where: Where) -> dict[str, Plain]:
        values: dict[str, Plain] = {}
        for key, item in node.value:
            if key.id != "scalar":
                self._text.wrong("yaml", self._source(key), "a key must be a plain word or phrase")
                continue
            name, source = str(key.value), self._source(key)
            if name in values:
                first = self._text.keys[(*where, name)].line
                message = f"the key {name!r} stands here a second time"
                self._text.wrong("same-key-twice", source, message, f"it stands in line {first} already: keep one")
                continue
            self._text.keys[(*where, name)] = source
            values[name] = self._plain(item, (*where, name))
            if item.id == "scalar" and not item.value and not item.style:
                self._text.values[(*where, name)] = source  # nothing stands nowhere: parsers do not agree where
        return values

    def _count(self, node: Node) -> None:
        """Values reached a second time, through an alias, are limited."""
        if id(node) in self._seen:
            self._again += 1
        if self._again > MOST_VALUES_THROUGH_ALIASES:
            raise _TooManyAliasesError
        self._seen.add(id(node))


class _TooDeepError(Exception):
    """Values in values in values."""


class _TooManyAliasesError(Exception):
    """Aliases of aliases stand for too much."""
