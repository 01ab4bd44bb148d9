"""Fetching a secret from where the estate says that it is kept. It is never printed, logged or stored."""

from __future__ import annotations

import os
import stat
from pathlib import Path

from justlane.model.errors import SecretError
from justlane.model.estate import SecretPlace

SERVICE = "justlane"
"""The name under which the system's keyring has our secrets."""


def place_of(text: str) -> SecretPlace:
    """What an estate says: `environment NAME`, `file PATH` or `keyring NAME`."""
    kind, _, name = text.partition(" ")
    return SecretPlace(kind, name.strip())


def fetch(place: SecretPlace, folder: Path, what: str = "token") -> str:
    """The secret, without spaces around it. SecretError if it is missing, empty, or a file that others can read."""
    value = _READERS[place.kind](place.name, folder, what).strip()
    if not value:
        raise SecretError(f"the {place.kind} {place.name} holds no {what}", _advice(place, what))
    if not value.isprintable():
        message = f"the {place.kind} {place.name} holds something that is no {what}"
        raise SecretError(message, f"a {what} is one line")
    return value


def token(place: SecretPlace, folder: Path) -> str:
    """A secret that goes into a header of HTTP, and so is ASCII."""
    value = fetch(place, folder)
    if not value.isascii():
        message = f"the {place.kind} {place.name} holds something that is no token"
        raise SecretError(message, "a token is one line of ASCII")
    return value


def _advice(place: SecretPlace, what: str) -> str:
    if place.kind == "keyring":
        return f"put it there: python -m keyring set {SERVICE} {place.name}"
    return f"set the variable {place.name}" if place.kind == "environment" else f"write the {what} into it"


def require_closed(path: Path, shown: str) -> None:
    """SecretError if others may read a file. OSError if it is not there."""
    if path.stat().st_mode & (stat.S_IRWXG | stat.S_IRWXO):
        raise SecretError(f"others may read the secret in {shown}", f"close it first: chmod 600 {shown}")


def _from_environment(name: str, folder: Path, what: str) -> str:
    return os.environ.get(name, "")


def _from_file(name: str, folder: Path, what: str) -> str:
    try:
        require_closed(folder / name, name)
        return (folder / name).read_text()
    except (OSError, UnicodeDecodeError) as error:
        reason = error.strerror if isinstance(error, OSError) else "it is not text"
        message = f"the secret in {name} cannot be read: {reason}"
        raise SecretError(message, "make the file, readable by you alone") from error


def _from_keyring(name: str, folder: Path, what: str) -> str:
    import keyring
    import keyring.errors

    try:
        return keyring.get_password(SERVICE, name) or ""
    except keyring.errors.NoKeyringError as error:
        hint = "unlock or install one, or keep the secret in a file that only you can read"
        raise SecretError("this machine has no keyring that could hold a secret", hint) from error
    except Exception as error:
        # Each system's keyring fails in ways of its own, which have no base in common.
        message = f"the keyring did not give the {what} {name}: {type(error).__name__}"
        raise SecretError(message, "unlock the keyring, then try again") from error


_READERS = {"environment": _from_environment, "file": _from_file, "keyring": _from_keyring}
