"""Platforms that speak our own small HTTP interface: stand-ins, and whoever offers it (docs/standin.md)."""

from __future__ import annotations

from pathlib import Path

from justlane.model.estate import Platform
from justlane.outside.secrets import Permit
from justlane.platforms.interface import Connector
from justlane.platforms.over_http.dialect import DIALECT

__all__ = ["DIALECT", "connect"]


def connect(platform: Platform, folder: Path, permit: Permit) -> Connector:
    """A connector over HTTP; the library is loaded only now."""
    from justlane.platforms.over_http.session import connect as over_http

    return over_http(platform, folder, permit)
