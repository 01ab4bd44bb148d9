"""Platforms without an interface: steps to carry out by hand, read back from an export."""

from __future__ import annotations

from pathlib import Path

from justlane.model.estate import Platform
from justlane.outside.secrets import Permit
from justlane.platforms.interface import Connector
from justlane.platforms.sheet.dialect import DIALECT

__all__ = ["DIALECT", "connect"]


def connect(platform: Platform, folder: Path, permit: Permit) -> Connector:
    """A connector on paper."""
    del permit
    from justlane.platforms.sheet.paper import Paper

    return Paper(platform, folder)
