"""Changing a file's text in place: an edit and its opposite give back the same bytes, and it means what was meant."""

from __future__ import annotations

import unittest
from collections.abc import Callable
from typing import Any

from hypothesis import given, settings
from hypothesis import strategies as st

from justlane.files.editing.draft import carried_out, hunks_of, taken_back
from justlane.files.in_place.document import Document
from justlane.files.in_place.nodes import nodes_of
from justlane.files.in_place.scalars import Value, in_flow, scalar
from justlane.files.reading.named_files import digest_of
from justlane.model.errors import RefusedError

WORDS = st.sampled_from(
    ["group crew", "a", "x/y", "ålesund", "it's", "7", "null", "a: b", "a, b", "# no", "**", "'q'", "- d", "é [1]", "yes", "C:\\x"]
)
COMMENTS = st.sampled_from(["", "", "", "  # why", "  # a: [b], 'c'"])
ABOVE = st.lists(st.sampled_from(["", "# a comment", "#", "# - give: not: this"]), max_size=2)


def quoted(draw: Any, word: str) -> str:
    plain = scalar(word)
    return str(draw(st.sampled_from([plain, "'" + word.replace("'", "''") + "'", plain])))


@st.composite
def values(draw: Any, deep: str) -> str:
    """What stands behind a key, on its line or below it."""
    some = draw(st.lists(WORDS, min_size=1, max_size=3, unique=True))
    form = draw(st.sampled_from(["one", "one", "flow", "block", "wide", "folded"]))
    if form == "one" or (form != "block" and len(some) == 1 and form != "folded"):
        return f" {quoted(draw, some[0])}"
    if form == "folded":
        return f" >-\n{deep}  some text that\n{deep}  goes on: here"
    if form == "block":
        return "".join(f"\n{deep}- {quoted(draw, word)}{draw(COMMENTS)}" for word in some)
    written = [scalar(word, flow=True) for word in some]
    return f" [{', '.join(written)}]" if form == "flow" else f" [ {f',{chr(10)}{deep}    '.join(written)} ]"


@st.composite
def files(draw: Any) -> bytes:
    """A file with bindings in every style."""
    dash, gap = " " * draw(st.sampled_from([0, 2, 4])), draw(st.sampled_from(["", "\n"]))
    lines = [*draw(ABOVE), draw(st.sampled_from(["bindings:", "bindings:   # all of them"])), *draw(ABOVE)]
    items = []
    for _ in range(draw(st.integers(1, 4))):
        above = "".join(f"{dash}{text}".rstrip() + "\n" for text in draw(ABOVE))
        if draw(st.integers(0, 4)) == 0:
            items.append(f"{above}{dash}- {{give: {scalar(draw(WORDS), flow=True)}, to: [b, c]}}{draw(COMMENTS)}\n")
            continue
        deep = dash + "  "
        item = f"{above}{dash}- give:{draw(values(deep + '  '))}{draw(COMMENTS)}\n"
        for key in draw(st.lists(st.sampled_from(["to", "at", "because"]), min_size=1, unique=True)):
            item += "".join(f"{deep}{text}".rstrip() + "\n" for text in draw(ABOVE)) + f"{deep}{key}:{draw(values(deep))}{draw(COMMENTS)}\n"
        items.append(item)
    text = "\n".join(lines) + "\n" + gap.join(items) + draw(st.sampled_from(["", "\n# the end\n", "bundles:\n  b: {for: x, holds: [r at s]}\n"]))
    text = draw(st.sampled_from(["", "\ufeff"])) + (text if draw(st.booleans()) else text.rstrip("\n"))
    return bytes(text.replace("\n", draw(st.sampled_from(["\n", "\r\n"]))).encode())


@st.composite
def trees(draw: Any) -> bytes:
    """A file with roles and scopes, mappings in mappings, in every style."""
    step = " " * draw(st.sampled_from([1, 2, 3, 4]))

    def comments(indent: str) -> str:
        return "".join(f"{indent}{text}".rstrip() + "\n" for text in draw(ABOVE))

    def entry(name: str, indent: str, depth: int) -> str:
        head = f"{comments(indent)}{indent}{name}:"
        if depth == 2 or draw(st.integers(0, 3)) == 0:
            short = draw(st.sampled_from([" buoy", " 'a b'", " {is: buoy, has: {a: 1}}", " {is: buoy}"]))
            return f"{head}{short}{draw(COMMENTS)}\n"
        text = f"{head}{draw(COMMENTS)}\n{indent}{step}is: folder{draw(COMMENTS)}\n"
        for key in draw(st.lists(st.sampled_from(["for", "allows", "gathers"]), unique=True)):
            text += f"{comments(indent + step)}{indent}{step}{key}:{draw(values(indent + step))}{draw(COMMENTS)}\n"
        if draw(st.booleans()):
            inner = "".join(entry(f"n{n}", indent + step * 2, depth + 1) for n in range(draw(st.integers(1, 2))))
            text += f"{indent}{step}holds:{draw(COMMENTS)}\n{inner}"
        return text

    gap = draw(st.sampled_from(["", "\n"]))
    text = "platform: p\n" + comments("") + "scopes:\n" + gap.join(entry(f"s{n}", step, 0) for n in range(draw(st.integers(1, 3))))
    text += draw(st.sampled_from(["", "\n# the end\n", "\nroles:\n  r: {for: x}\n"]))
    text = text if draw(st.booleans()) else text.rstrip("\n")
    return bytes(text.replace("\n", draw(st.sampled_from(["\n", "\r\n"]))).encode())


def holders_in(content: bytes) -> list[tuple[str, ...]]:
    """The ways to all mappings of scopes in a file."""
    found: list[tuple[str, ...]] = []

    def look(value: Any, path: tuple[str, ...]) -> None:
        found.append(path)
        for name, inner in value.items():
            if isinstance(inner, dict) and isinstance(inner.get("holds"), dict):
                look(inner["holds"], (*path, name, "holds"))

    look(plain(content)["scopes"], ("scopes",))
    return found


def plain(content: bytes) -> Any:
    text = content.decode().removeprefix("\ufeff")
    return nodes_of(text).plain


NEW: dict[str, Value] = {"give": "r: 1", "to": ["group a", "group b, c"], "when": {"multi-factor": "yes"}, "because": 'It\'s "so".'}


class TextTest(unittest.TestCase):
    @settings(max_examples=150, deadline=None)
    @given(files(), st.data())
    def test_a_line_put_in_and_taken_out_leaves_the_same_bytes(self, content: bytes, data: Any) -> None:
        document = Document("f", content)
        items = len(document.node(("bindings",)).items)
        place = data.draw(st.integers(0, items))
        document.insert(("bindings",), place, NEW)
        wanted = plain(content)
        wanted["bindings"].insert(place, NEW)
        self.assertEqual(plain(document.content), wanted)
        changed = hunks_of(content, document.content)
        self.assertFalse([line for hunk in changed for line in hunk.old if not content.endswith(line.encode())])
        self.assertEqual(taken_back("f", document.content, changed, digest_of(document.content)), content)
        self.assertEqual(carried_out(content, changed), document.content)
        document.remove(("bindings", place))
        self.assertEqual(document.content, content)

    @settings(max_examples=150, deadline=None)
    @given(files(), WORDS, st.data())
    def test_a_word_added_and_taken_leaves_the_same_bytes(self, content: bytes, word: str, data: Any) -> None:
        document = Document("f", content)
        place = data.draw(st.integers(0, len(document.node(("bindings",)).items) - 1))
        key = data.draw(st.sampled_from(sorted(document.node(("bindings", place)).keys())))
        path = ("bindings", place, key)
        known = document.values(path)
        if word in known:
            return
        node = document.node(path)
        document.add(path, word)
        self.assertEqual(document.values(path), [*known, word])
        document.take(path, word)
        self.assertEqual(document.values(path), known)
        single = node.flow and len(known) == 1  # `[a]` comes back as `a`
        rewritten = node.kind == "scalar" and not (node.style in ("'", '"') or scalar(known[0], flow=True) == known[0])
        if not single and not rewritten:
            self.assertEqual(document.content, content)

    @settings(max_examples=150, deadline=None)
    @given(trees(), st.data())
    def test_an_entry_put_into_a_tree_and_taken_out_leaves_the_same_bytes(self, content: bytes, data: Any) -> None:
        document = Document("f", content)
        path = data.draw(st.sampled_from(holders_in(content)))
        count = len(document.node(path).items) // 2
        value = data.draw(st.sampled_from(["buoy", {"is": "buoy", "for": "It: is"}, {"is": "folder", "holds": {"x": "buoy"}}]))
        place = data.draw(st.integers(0, count))
        document.insert(path, place, value, "new one")
        found: Any = plain(document.content)
        for step in path:
            found = found[step]
        self.assertEqual(list(found)[place], "new one")
        self.assertEqual(found["new one"], value)
        document.remove((*path, "new one"))
        self.assertEqual(document.content, content)

    @settings(max_examples=150, deadline=None)
    @given(trees(), st.data())
    def test_a_key_put_and_taken_out_leaves_the_same_bytes(self, content: bytes, data: Any) -> None:
        document = Document("f", content)
        path = data.draw(st.sampled_from(holders_in(content)))
        name = data.draw(st.sampled_from(sorted(document.node(path).keys())))
        node = document.node((*path, name))
        if node.kind != "mapping":
            return
        document.put((*path, name, "excepts"), data.draw(st.sampled_from(["a", ["a", "b: c"]])), ("is", "for", "allows"))
        document.remove((*path, name, "excepts"))
        self.assertEqual(document.content, content)

    @settings(max_examples=100, deadline=None)
    @given(files(), st.data())
    def test_what_is_taken_out_is_gone_and_nothing_else(self, content: bytes, data: Any) -> None:
        document = Document("f", content)
        place = data.draw(st.integers(0, len(document.node(("bindings",)).items) - 1))
        wanted = plain(content)
        del wanted["bindings"][place]
        comments = sum(line.lstrip().startswith(b"#") for line in content.splitlines())
        document.remove(("bindings", place))
        found = plain(document.content)
        self.assertEqual(found if wanted["bindings"] else {"bindings": [], **found}, wanted)
        left = sum(line.lstrip().startswith(b"#") for line in document.content.splitlines())
        self.assertLessEqual(comments - left, content.count(b"#"))
        self.assertEqual(taken_back("f", document.content, hunks_of(content, document.content), ""), content)

    def test_words_are_written_so_that_they_are_read_again(self) -> None:
        for word in [
            "",
            " a",
            "a ",
            "a: b",
            "a #b",
            "a#b",
            "-",
            "- a",
            "? a",
            "*x",
            "&x",
            "!x",
            "%x",
            "@x",
            "`x",
            "null",
            "~",
            "1e3",
            "2026-12-31",
            "\t",
            "a\nb",
            "\u2028",
            "'",
            '"',
            "\\",
            "[a]",
            "{a}",
            "a,b",
            "a]b",
            "yes",
            "Å",
            "\ufeff",
            "a:",
            ":a",
            "=",
            "<<",
            "#",
            "…",
        ]:
            for text, found in (
                (f"k: {scalar(word)}", {"k": word}),
                (f"k: {in_flow([word, 'x'])}", {"k": [word, "x"]}),
                (f"- {scalar(word)}", [word]),
            ):
                self.assertEqual(nodes_of(text).plain, found, text)

    def test_what_stands_in_several_places_is_not_changed(self) -> None:
        document = Document("f", b"bindings:\n  - &one\n    to: [a, b]\n  - *one\n")
        edits: list[Callable[[], object]] = [lambda: document.add(("bindings", 0, "to"), "c"), lambda: document.take(("bindings", 1, "to"), "a")]
        for edit in edits:
            with self.assertRaises(RefusedError) as caught:
                edit()
            self.assertRegex(caught.exception.message, r"^f:\d+: ")
        self.assertEqual(document.content, b"bindings:\n  - &one\n    to: [a, b]\n  - *one\n")
