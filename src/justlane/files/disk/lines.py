"""Lines of files as they stand there, to be shown beside what is said of them."""

from __future__ import annotations

import os
from collections.abc import Iterable, Mapping
from pathlib import Path

from justlane.files.disk import beneath
from justlane.model.findings import Source

_MOST_BYTES = 16 << 20
"""Larger files are not opened again to show a line."""


def lines_at(folder: Path, sources: Iterable[Source]) -> Mapping[tuple[str, int], str]:
    """(file, line) -> the line, without what stands around it; those that cannot be read are left out."""
    wanted: dict[str, set[int]] = {}
    for source in sources:
        if source.line:
            wanted.setdefault(source.file, set()).add(source.line)
    found: dict[tuple[str, int], str] = {}
    for file, numbers in wanted.items():
        try:
            with beneath.opened(folder, file) as handle:
                content = beneath.content_of(handle) if os.fstat(handle).st_size <= _MOST_BYTES else b""
        except (OSError, ValueError):
            continue
        lines = content.decode("utf-8-sig", "replace").splitlines()
        found.update({(file, n): lines[n - 1].strip() for n in numbers if n <= len(lines)})
    return found
