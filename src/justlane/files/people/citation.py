"""How what a directory says is cited."""

from __future__ import annotations

import msgspec

from justlane.model.findings import Source


class Citation(msgspec.Struct, frozen=True, array_like=True):
    """How the entries of one source are cited: by file and line, or, where it has no lines, by directory and name."""

    users_in: str
    groups_in: str
    has_lines: bool

    def user(self, login: str, line: int) -> Source:
        """Where a user is written."""
        return Source(self.users_in, line, 1) if self.has_lines else Source(f"{self.users_in}/{login}")

    def group(self, name: str, line: int) -> Source:
        """Where a group, or one of its members, is written."""
        return Source(self.groups_in, line, 1) if self.has_lines else Source(f"{self.groups_in}/{name}")
