"""Following the directory where it renamed somebody: the edits that an estate's files need, and making them."""

from __future__ import annotations

import re
from collections.abc import Iterable
from pathlib import Path

from justlane.files.disk import beneath
from justlane.model.errors import RefusedError, StorageError
from justlane.model.findings import Finding

_SAFE = re.compile(r"[\w][\w .@+-]*")
"""Names that mean the same in YAML with and without quotes."""
_LETTER = r"[\w.@+-]"
_KIND = re.compile(r"[\"']?(?:(?:local )?group +|user +)?")
"""What may stand before the name."""


def edits(findings: Iterable[Finding]) -> list[Finding]:
    """Those findings that say what to write instead, by file and line."""
    return sorted((f for f in findings if f.instead), key=lambda f: f.source)


def edited_line(line: str, edit: Finding) -> str:
    """A line with its name replaced, nothing else touched. RefusedError if that cannot be done safely."""
    kind = _KIND.match(line, max(edit.source.column - 1, 0))
    name = re.compile(rf"(?<!{_LETTER}){re.escape(edit.found)}(?!{_LETTER})")
    found = name.search(line, kind.end() if kind else 0)
    if found is None or not _SAFE.fullmatch(edit.instead):
        where = f"{edit.source.line_address}: {edit.found!r} cannot be replaced here by {edit.instead!r}"
        raise RefusedError(where, "make this edit by hand; nothing was changed")
    return line[: found.start()] + edit.instead + line[found.end() :]


def lines_of(folder: Path, file: str) -> list[str]:
    """The lines of one of the estate's files. StorageError if it cannot be read any more."""
    try:
        return beneath.read(folder, file).decode().split("\n")
    except (OSError, ValueError) as error:
        reason = getattr(error, "strerror", None) or "it is not UTF-8"
        raise StorageError(f"{file} cannot be read: {reason}", "see whether somebody changed it meanwhile") from error


def contents(folder: Path, wanted: Iterable[Finding]) -> dict[str, tuple[bytes, bytes]]:
    """File -> what it holds before and after the edits."""
    by_file: dict[str, list[Finding]] = {}
    for edit in wanted:
        by_file.setdefault(edit.source.file, []).append(edit)
    found: dict[str, tuple[bytes, bytes]] = {}
    for file, some in by_file.items():
        lines = lines_of(folder, file)
        before = "\n".join(lines).encode()
        for edit in sorted(some, key=lambda e: e.source, reverse=True):
            lines[edit.source.line - 1] = edited_line(lines[edit.source.line - 1], edit)
        found[file] = before, "\n".join(lines).encode()
    return found
