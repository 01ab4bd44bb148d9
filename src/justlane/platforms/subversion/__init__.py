"""Path rules of a Subversion server: the file of rules that its own tools read."""

from __future__ import annotations

from pathlib import Path

from justlane.model.estate import Platform
from justlane.outside.secrets import Permit
from justlane.platforms.interface import Connector
from justlane.platforms.subversion.dialect import DIALECT

__all__ = ["DIALECT", "connect"]


def connect(platform: Platform, folder: Path, permit: Permit) -> Connector:
    """A connector that rewrites the file, and asks and tries with the server's own tools."""
    from justlane.platforms.subversion.repository import connect as to_repository

    return to_repository(platform, folder, permit)
