"""When each line among the bindings was changed last, as the repository knows it."""

from __future__ import annotations

from collections.abc import Iterable
from difflib import SequenceMatcher
from pathlib import Path

from justlane.files.editing.draft import content_of
from justlane.files.history.revisions import Touched, committed_file, line_authors
from justlane.model.bindings import Binding
from justlane.model.errors import StorageError
from justlane.model.findings import Source

_MOST_LINES = 50_000
UNCOMMITTED = "not committed yet"


class WhenChanged:
    """Answers when an entry was changed last."""

    def __init__(self, folder: Path, bindings: Iterable[Binding]) -> None:
        self._folder = folder
        self._starts: dict[str, list[int]] = {}
        for binding in bindings:
            self._starts.setdefault(binding.source.file, []).append(binding.source.line)
        self._files: dict[str, dict[int, Touched] | None] = {}
        self._lines: dict[str, int] = {}

    def of(self, source: Source) -> str:
        """The day and the author of the last change of an entry; empty if nothing is known."""
        if source.file not in self._files:
            self._files[source.file] = self._read(source.file)
        known = self._files[source.file]
        if known is None:
            return ""
        after = [line for line in self._starts.get(source.file, ()) if line > source.line]
        end = min(after, default=min(source.line + 30, self._lines.get(source.file, source.line) + 1))
        some = [known.get(line) for line in range(source.line, max(end, source.line + 1))]
        if None in some[:1]:
            return UNCOMMITTED
        newest = max((touched for touched in some if touched), key=lambda touched: touched.day)
        return f"{newest.day} by {newest.author}"

    def _read(self, file: str) -> dict[int, Touched] | None:
        before = committed_file(self._folder, file)
        if before is None:
            return None
        try:
            now = content_of(self._folder, file)
        except StorageError:
            return None
        known = line_authors(self._folder, file)
        old, new = (some.decode("utf-8", "replace").splitlines() for some in (before, now))
        self._lines[file] = len(new)
        if old == new:
            return known
        if max(len(old), len(new)) > _MOST_LINES:
            return None
        found: dict[int, Touched] = {}
        for kind, start, end, start_new, _ in SequenceMatcher(None, old, new, autojunk=False).get_opcodes():
            if kind == "equal":
                found |= {start_new + n + 1: known[start + n + 1] for n in range(end - start) if start + n + 1 in known}
        return found
