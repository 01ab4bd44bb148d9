"""Fetching a secret from where the estate says that it is kept. It is never printed, logged or stored."""

from __future__ import annotations

import os
import stat
from pathlib import Path

from justlane.model.errors import SecretError
from justlane.model.estate import SecretPlace


def fetch(place: SecretPlace, folder: Path) -> str:
    """The secret. SecretError if it is missing, empty, or a file that others can read."""
    value = (
        os.environ.get(place.name, "") if place.kind == "environment" else _from_file(folder / place.name, place.name)
    )
    if not value.strip():
        hint = f"set the variable {place.name}" if place.kind == "environment" else "write the token into it"
        raise SecretError(f"the {place.kind} {place.name} holds no token", hint)
    if not value.strip().isascii() or not value.strip().isprintable():
        raise SecretError(
            f"the {place.kind} {place.name} holds something that is no token", "a token is one line of ASCII"
        )
    return value.strip()


def _from_file(path: Path, shown: str) -> str:
    try:
        mode = path.stat().st_mode
        if mode & (stat.S_IRWXG | stat.S_IRWXO):
            raise SecretError(f"others may read the secret in {shown}", f"close it first: chmod 600 {shown}")
        return path.read_text()
    except (OSError, UnicodeDecodeError) as error:
        reason = error.strerror if isinstance(error, OSError) else "it is not text"
        raise SecretError(
            f"the secret in {shown} cannot be read: {reason}", "make the file, readable by you alone"
        ) from error
