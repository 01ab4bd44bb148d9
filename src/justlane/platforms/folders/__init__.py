"""Folders of the operating system with POSIX access control lists (POSIX.1e, draft 17)."""

from __future__ import annotations

from pathlib import Path

from justlane.model.estate import Platform
from justlane.outside.secrets import Permit
from justlane.platforms.folders.dialect import DIALECT
from justlane.platforms.interface import Connector

__all__ = ["DIALECT", "connect"]


def connect(platform: Platform, folder: Path, permit: Permit) -> Connector:
    """A connector on this machine's own files."""
    from justlane.platforms.folders.tree import connect as to_tree

    return to_tree(platform, folder, permit)
