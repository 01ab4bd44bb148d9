"""One of the estate's files, changed in place: comments, order, quotes, style, line ends and indentation stay as the
author left them, and no line is touched that need not be.

Every change is made twice: in the text, and in the plain values that it means. What the changed text reads as has to
be those values; otherwise nothing is changed at all, and the person is told to make the edit by hand.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from typing import Any, cast

from justlane.files.in_place.nodes import Lines, TextNode, nodes_of
from justlane.files.in_place.scalars import Value, in_block, in_flow, item_lines, scalar
from justlane.files.reading.yamlnodes import NotYamlError
from justlane.model.errors import RefusedError

Path = tuple[str | int, ...]
"""The keys and list positions that lead to a value."""

_MARK = "\ufeff"
_KINDS = {"estate", "platform", "roles for", "bindings", "expectations", "bundles", "situations"}
"""Keys of which one says of what kind a file of an estate is: the last of them stays, however little it holds."""


class Document:
    """The text of a file and what it means. Changes apply at once."""

    def __init__(self, file: str, content: bytes) -> None:
        self.file, self.before = file, content
        text = content.decode("utf-8")
        self._mark = _MARK if text.startswith(_MARK) else ""
        self._text = text.removeprefix(_MARK)
        self._parse()

    def _parse(self) -> None:
        self._lines = Lines(self._text)
        try:
            self.root = nodes_of(self._text)
        except NotYamlError as error:
            raise RefusedError(f"{self.file}:{error.line}: {error}", "correct it first") from error

    @property
    def content(self) -> bytes:
        """The whole file as it is now."""
        return (self._mark + self._text).encode()

    def node(self, path: Path) -> TextNode:
        """What stands at a path. KeyError or IndexError if nothing does."""
        found = self.root
        for step in path:
            if isinstance(step, int):
                found = found.items[step]
            else:
                pair = found.pair(step) if found.kind == "mapping" else None
                if pair is None:
                    raise KeyError(step)
                found = pair[1]
        return found

    def has(self, path: Path) -> bool:
        """Whether anything stands at a path."""
        try:
            return not self.node(path).empty
        except (KeyError, IndexError):
            return False

    def values(self, path: Path) -> list[str]:
        """The texts at a path, one or several; none if there is nothing."""
        if not self.has(path):
            return []
        plain = self.node(path).plain
        return [str(item) for item in plain] if isinstance(plain, list) else [str(plain)]

    def line(self, path: Path) -> int:
        """The line, from 1, on which a value begins."""
        return self._lines.number(self.node(path).start) + 1

    # --- items of lists, entries of mappings ---------------------------------------------------------------------

    def written(self, path: Path) -> tuple[str, ...]:
        """The lines of an entry of a mapping as they are written, from its column on; none where it is not in lines of
        its own. Comments inside belong to it."""
        *above, key = path
        holder = self.node(tuple(above))
        pair = holder.pair(str(key))
        if holder.flow or pair is None or holder.alias:
            return ()
        start, end = pair[0].start, max(pair[0].end, pair[1].end)
        first = self._lines.start(start)
        lines = self._text[first : self._lines.end(end)].splitlines()
        column = start - first
        own = not lines[0][:column].strip() and all(not line[:column].strip() for line in lines)
        return tuple(line[column:].rstrip() for line in lines) if own else ()

    def insert(self, path: Path, place: int, value: Value, key: str = "", lines: Sequence[str] = ()) -> None:
        """A further item of the list at a path, or entry of the mapping there, as number `place` of them.

        `lines` are how the entry is written already, from its column on.
        """
        node = self.node(path)
        self._require_own(node)

        def meant(plain: Any) -> None:
            if key:
                pairs = list(plain.items())
                pairs.insert(place, (key, value))
                plain.clear()
                plain.update(pairs)
            else:
                plain.insert(place, value)

        if self._is_bare(node, path):
            self._splice(self._first_in_block(node, path, value), path, meant)
        elif node.flow or node.kind == "scalar":
            self._splice(self._into_flow(node, place, value, key), path, meant)
        else:
            self._splice(self._into_block(node, place, value, key, lines), path, meant)

    def _is_bare(self, node: TextNode, path: Path) -> bool:
        """Whether a list is `[]` behind a key of a mapping in lines: it grows in lines, not in one."""
        return node.kind == "list" and node.flow and not node.items and len(path) == 1 and not self.root.flow

    def _first_in_block(self, node: TextNode, path: Path, value: Value) -> tuple[int, int, str]:
        key, _ = cast(Any, self.root.pair(str(path[0])))
        # behind the key, which may hold a colon itself where it is quoted
        colon = self._text.index(":", key.end) + 1
        new = self._lines.newline
        lines = [f"  {line}" for line in item_lines(value)]
        rest = self._text[node.end : self._lines.end(node.end)]
        return colon, self._lines.end(node.end), f"{rest}{new}{new.join(lines)}"

    def _into_flow(self, node: TextNode, place: int, value: Value, key: str) -> tuple[int, int, str]:
        text = f"{scalar(key, flow=True)}: {in_flow(value)}" if key else in_flow(value)
        entries = _entries(node)
        if not entries:
            inside = self._text[node.start + 1 : node.end - 1]
            at = node.start + 1 + (len(inside) - len(inside.lstrip(" ")))
            return at, at, text
        if place < len(entries):
            return entries[place][0], entries[place][0], f"{text}, "
        return entries[-1][1], entries[-1][1], f", {text}"

    def _into_block(
        self, node: TextNode, place: int, value: Value, key: str, ready: Sequence[str]
    ) -> tuple[int, int, str]:
        # the author's own column: a list may be indented under its key, or not
        column = node.start - self._lines.start(node.start)
        entries = self._own(node)
        parted = self._parted(entries)
        lines = [f"{' ' * column}{line}".rstrip() for line in ready]
        if not lines and key and isinstance(value, Mapping) and _are_short(node):
            lines = [f"{' ' * column}{scalar(key)}: {in_flow(value)}"]
        lines = lines or self._lines_of(value, key, column)
        new = self._lines.newline
        if place:
            at = self._lines.end(entries[place - 1][1])
            return at, at, (new * 2 if parted else new) + new.join(lines)
        first = self._lines.start(entries[0][0])
        if first != entries[0][0] - column or self._text[first : entries[0][0]].strip():
            # the list begins on the line of something else: `- - a`
            raise self._by_hand(entries[0][0])
        above = self._lines.starts[self._with_comments(entries, 0, self._lines.number(first))]
        return above, above, new.join(lines) + (new * 2 if parted else new)

    def _lines_of(self, value: Value, key: str, column: int) -> list[str]:
        """The lines of a new entry at a column."""
        lines = in_block({key: value}) if key else item_lines(value)
        if key and isinstance(value, Mapping) and value and len(lines) == 1:
            lines = [f"{scalar(key)}:", *(f"  {line}" for line in in_block(value))]
        return [" " * column + line for line in lines]

    def _parted(self, entries: Sequence[tuple[int, int]]) -> bool:
        """Whether most entries have a blank line before them."""
        gaps = [self._blank_before(start) for start, _ in entries[1:]]
        return bool(gaps) and sum(gaps) * 2 > len(gaps)

    def _blank_before(self, offset: int) -> bool:
        """Whether a blank line stands before an entry and the comments above it."""
        number = self._lines.number(offset) - 1
        while number >= 0 and self._line(number).lstrip().startswith("#"):
            number -= 1
        return number >= 0 and not self._line(number).strip()

    def _line(self, number: int) -> str:
        start = self._lines.starts[number]
        return self._text[start : self._lines.end(start)]

    def _own(self, node: TextNode) -> list[tuple[int, int]]:
        """Where each entry of a block begins, its dash included, and ends."""
        entries = _entries(node)
        if node.kind != "list":
            return entries
        column = node.start - self._lines.start(node.start)
        found: list[tuple[int, int]] = []
        for start, end in entries:
            number = self._lines.number(start)
            least = self._lines.number(found[-1][1]) if found else self._lines.number(node.start)
            # a comment, a tag or a blank may stand between the dash and what it introduces, on lines of
            # their own
            while number > least and self._text[self._lines.starts[number] + column : start][:1] != "-":
                number -= 1
            found.append((self._lines.starts[number] + column, end))
        return found

    def remove(self, path: Path) -> None:
        """Take out an item of a list, or an entry of a mapping. The last one goes with what holds it."""
        *above, last = path
        node = self.node(tuple(above))
        self._require_own(node)
        place = last if isinstance(last, int) else node.keys()[last]
        count = len(node.items) // (1 if node.kind == "list" else 2)
        if count == 1:
            self._empty(tuple(above), node)
            return

        def meant(plain: Any) -> None:
            del plain[last]

        if node.flow:
            self._splice(self._out_of_flow(node, place), tuple(above), meant)
        else:
            self._splice(self._out_of_block(self._own(node), place), tuple(above), meant)

    def rewrite(self, path: Path, others: Mapping[int, Sequence[Value]], more: Sequence[Value] = ()) -> None:
        """Change a list in one go: some of its items become others, or nothing, and more stand behind the last.

        The text is read once to see that it is right, so that thousands of items take hardly longer than one.
        """
        node = self.node(path)
        self._require_own(node)
        added = [value for values in others.values() for value in values] + list(more)
        if node.flow or node.kind != "list":
            for place in sorted(others, reverse=True):
                self.remove((*path, place))
            for value in added:
                self.insert(path, len(self.node(path).items), value)
            return
        if len(others) == len(node.items) and not added:
            self._empty(path, node)
            return
        last = len(node.items) - 1
        if len(others) == len(node.items) or (more and last in others):  # what is new needs an item to stand beside
            others = {**others, last: [*others[last], *more]}
            more = ()
            if not others[last]:
                first = next(place for place in sorted(others, reverse=True) if others[place])
                others[last], others[first] = others[first], ()

        def meant(plain: Any) -> None:
            plain[:] = [v for n, item in enumerate(plain) for v in others.get(n, [item])] + list(more)

        self._splice(self._all_at_once(node, others, more), path, meant)

    def _all_at_once(
        self, node: TextNode, others: Mapping[int, Sequence[Value]], more: Sequence[Value]
    ) -> tuple[int, int, str]:
        """The whole list, with what is changed in it."""
        entries, column = self._own(node), node.start - self._lines.start(node.start)
        new = self._lines.newline
        gap = new * 2 if self._parted(entries) else new
        pieces: list[tuple[int, int, str]] = []
        for place in sorted(others):
            if others[place]:
                text = gap.join(new.join(self._lines_of(value, "", column)) for value in others[place])
                pieces.append((self._lines.start(entries[place][0]), self._lines.end(entries[place][1]), text))
            else:
                pieces.append(self._out_of_block(entries, place))
        if more:
            end = self._lines.end(entries[-1][1])
            pieces.append((end, end, "".join(gap + new.join(self._lines_of(value, "", column)) for value in more)))
        first, found, at = pieces[0][0], list[str](), pieces[0][0]
        for start, end, text in pieces:
            found += [self._text[at:start], text] if start >= at else [text]
            at = max(at, end)
        return first, at, "".join(found)

    def _empty(self, path: Path, node: TextNode) -> None:
        """The last entry is taken out: what held it goes too, unless the file is known by it."""
        known_by = len(path) == 1 and path[0] in _KINDS and not _KINDS & (self.root.keys().keys() - {str(path[0])})
        if (path and len(self.root.items) > 2 and not known_by) or len(path) > 1:
            self.remove(path)
            return
        if not path:
            raise self._by_hand(node.start)
        empty = "[]" if node.kind == "list" else "{}"
        key, _ = cast(Any, self.root.pair(str(path[0])))
        colon = self._text.index(":", key.end)

        def meant(plain: Any) -> None:
            plain.clear()

        start = node.start if node.flow else colon + 1
        self._splice((start, node.end, empty if node.flow else f" {empty}"), path, meant)

    def _out_of_flow(self, node: TextNode, place: int) -> tuple[int, int, str]:
        entries = _entries(node)
        if place + 1 < len(entries):
            return entries[place][0], entries[place + 1][0], ""
        return entries[place - 1][1], entries[place][1], ""

    def _out_of_block(self, entries: Sequence[tuple[int, int]], place: int) -> tuple[int, int, str]:
        start, end = entries[place]
        number = self._lines.number(start)
        line = self._lines.starts[number]
        if self._text[line:start].strip():  # `- give: x` of a list in a list, or the first key behind a dash
            if place + 1 == len(entries):
                raise self._by_hand(start)
            return start, entries[place + 1][0], ""
        number = self._with_comments(entries, place, number)
        line = self._lines.starts[number]
        before = number
        while before and not self._line(before - 1).strip():
            before -= 1
        after = self._lines.after(end)
        if before == number or place == 0:  # nothing blank above: what is blank below goes with it
            stop = after
            first = self._lines.number(after)
            while (
                place == 0
                and first < len(self._lines.starts)
                and stop < len(self._text)
                and not self._line(first).strip()
            ):
                stop = self._lines.after(self._lines.starts[first])
                first += 1
            if stop < len(self._text) or self._lines.end(end) != len(self._text):
                return line, stop, ""
        above = self._lines.end(self._lines.starts[before - 1]) if before else 0
        return above, self._lines.end(end), ""

    def _with_comments(self, entries: Sequence[tuple[int, int]], place: int, number: int) -> int:
        """The first line of what belongs to an entry: the comments right above it, as far in as it is.

        Above the first entry a comment may be about them all: it is that entry's if others have their own too.
        """
        first = self._comments_above(entries[place][0], number)
        others = ((start, self._lines.number(start)) for start, _ in entries[1:])
        if place == 0 and all(self._comments_above(start, line) == line for start, line in others):
            return number
        return first

    def _comments_above(self, start: int, number: int) -> int:
        column = start - self._lines.starts[number]
        while number and self._line(number - 1).startswith(" " * column + "#"):
            number -= 1
        return number

    # --- keys and values -----------------------------------------------------------------------------------------

    def put(self, path: Path, value: Value, after: Sequence[str] = (), lines: Sequence[str] = ()) -> None:
        """Let a key have a value: replaced where it stands, or put behind the last of the keys `after` that stand."""
        *above, key = path
        holder = self.node(tuple(above))
        known = holder.keys() if holder.kind == "mapping" else {}
        if isinstance(key, int) or key in known:
            self._replace(path, value)
            return
        places = [known[name] for name in after if name in known]
        self.insert(tuple(above), max(places) + 1 if places else len(known), value, str(key), lines)

    def _replace(self, path: Path, value: Value) -> None:
        *above, key = path
        node, holder = self.node(path), self.node(tuple(above))
        self._require_own(node)

        def meant(plain: Any) -> None:
            plain[key] = value

        if node.empty and not (isinstance(key, int)):
            pair = cast(Any, holder.pair(str(key)))
            colon = self._text.index(":", pair[0].end) + 1
            self._splice((colon, colon, f" {in_flow(value)}"), tuple(above), meant)
            return
        written = in_flow(value) if holder.flow or not isinstance(value, str) else scalar(value)
        if isinstance(value, str) and node.kind == "scalar" and node.style in ("'", '"'):
            written = _quoted(value, node.style) or written
        self._splice((node.start, node.end, written), tuple(above), meant)

    def add(self, path: Path, text: str, after: Sequence[str] = ()) -> None:
        """One text more where one or several may stand: a single one becomes a list on its line."""
        if not self.has(path):
            self.put(path, text, after)
            return
        node = self.node(path)
        if node.kind == "list":
            self.insert(path, len(node.items), text)
            return
        self._require_own(node)
        *above, key = path
        kept = self._text[node.start : node.end]
        if node.style in ("|", ">") or "\n" in kept or "\r" in kept or scalar(node.value, flow=True) != node.value:
            kept = kept if node.style in ("'", '"') and "\n" not in kept else scalar(node.value, flow=True)

        def meant(plain: Any) -> None:
            plain[key] = [plain[key], text]

        self._splice((node.start, node.end, f"[{kept}, {scalar(text, flow=True)}]"), tuple(above), meant)

    def take(self, path: Path, text: str) -> None:
        """One of the texts less; of two on one line the other stands alone, and with the last the key goes."""
        node = self.node(path)
        self._require_own(node)
        if node.kind == "scalar":
            self.remove(path)
            return
        place = next(n for n, item in enumerate(node.items) if item.plain == text)
        if not node.flow or len(node.items) != 2:
            self.remove((*path, place))
            return
        other = node.items[1 - place]
        *above, key = path

        def meant(plain: Any) -> None:
            plain[key] = other.plain

        kept = self._text[other.start : other.end]
        self._splice((node.start, node.end, kept), tuple(above), meant)

    # --- changing the text -----------------------------------------------------------------------------------------

    def _splice(self, piece: tuple[int, int, str], path: Path, meant: Callable[[Any], None]) -> None:
        """Replace a piece of the text, and see that it now means what is meant."""
        wanted = self.root.plain
        inside: Any = wanted
        for step in path:
            inside = inside[step]
        meant(inside)
        before, (start, end, text) = self._text, piece
        self._text = before[:start] + text + before[end:]
        line = self._lines.number(start) + 1
        try:
            self._parse()
            same = self.root.plain == wanted
        except RefusedError:
            same = False
        if not same:
            self._text = before
            self._parse()
            raise RefusedError(
                f"{self.file}:{line}: this line is written in a way in which the edit cannot be made",
                "make it by hand, or write the line anew; nothing was changed",
            )

    def _require_own(self, node: TextNode) -> None:
        """RefusedError for a value that stands in several places."""
        if node.alias:
            line = self._lines.number(node.start) + 1
            message = f"{self.file}:{line}: what stands here stands in other places too, by an anchor and an alias"
            raise RefusedError(message, "write it out, or make the edit by hand; nothing was changed")

    def _by_hand(self, offset: int) -> RefusedError:
        line = self._lines.number(offset) + 1
        message = f"{self.file}:{line}: the edit cannot be made in the way in which this is written"
        return RefusedError(message, "make it by hand; nothing was changed")


def _entries(node: TextNode) -> list[tuple[int, int]]:
    """Where each item, or each key with its value, begins and ends."""
    if node.kind == "list":
        return [(item.start, item.end) for item in node.items]
    return [(key.start, max(key.end, value.end)) for key, value in node.pairs()]


def _are_short(node: TextNode) -> bool:
    """Whether the values of a mapping stand on their lines, words or small mappings."""
    return all(value.kind == "scalar" or value.flow for _, value in node.pairs())


def _quoted(text: str, style: str) -> str:
    """Text in the quotes that stood there; empty if they do not suit it."""
    if not text.isprintable():
        return ""
    if style == "'":
        return "'" + text.replace("'", "''") + "'"
    return f'"{text}"' if '"' not in text and "\\" not in text else ""
