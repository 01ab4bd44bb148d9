"""PostgreSQL: databases, schemas, tables, sequences and functions as places; roles, memberships and GRANTs."""

from __future__ import annotations

from pathlib import Path

from justlane.model.errors import UsageError
from justlane.model.estate import Platform
from justlane.outside.secrets import Permit
from justlane.platforms.interface import Connector
from justlane.platforms.postgresql.dialect import DIALECT

__all__ = ["DIALECT", "connect"]


def connect(platform: Platform, folder: Path, permit: Permit) -> Connector:
    """A connector through the database's own protocol; the library is loaded only now. UsageError if that library is
    not installed."""
    try:
        from justlane.platforms.postgresql.cluster import connect as to_cluster
    except ImportError as error:
        hint = "install it with what it needs: pip install 'justlane[postgresql]'"
        raise UsageError(f"psycopg, which talks to PostgreSQL, cannot be loaded: {error}", hint) from error
    return to_cluster(platform, folder, permit)
