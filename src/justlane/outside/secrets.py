"""Secrets: fetched from where the estate says that they are kept, and handed out only for where they may go.

`released` is the only way to a secret that leaves this machine.
"""

from __future__ import annotations

import os
import stat
from collections.abc import Callable
from pathlib import Path
from typing import NamedTuple

from justlane.files.allowed.permissions import Use, allow, permissions
from justlane.files.disk import beneath
from justlane.files.reading import named_files
from justlane.model.errors import RefusedError, SecretError
from justlane.model.estate import SecretPlace
from justlane.model.secrecy import keep_secret
from justlane.model.shell import spelt

SERVICE = "justlane"
"""The name under which the system's keyring has our secrets."""


class Destination(NamedTuple):
    """Where a secret is to go."""

    host: str
    """In lower case; of a socket on this machine its path."""
    port: int
    authority: str
    """SHA-256 of the certificates that are trusted instead of the system's; empty for the system's."""
    encrypted: bool

    @property
    def is_here(self) -> bool:
        """Whether it does not leave this machine."""
        return is_loopback(self.host)

    def __str__(self) -> str:
        """`host:port, encrypted`."""
        where = f"{self.host}:{self.port}" if self.port else self.host
        return f"{where}, {'encrypted' if self.encrypted else 'not encrypted'}"


def is_loopback(host: str) -> bool:
    """Whether a host, or a socket's path, is this machine itself."""
    if host == "localhost" or host.startswith("/"):
        return True
    from ipaddress import ip_address

    try:
        return ip_address(host).is_loopback
    except ValueError:
        return False


Permit = Callable[[Use, Destination], bool]
"""Asks the person whether a secret may be used so, from now on."""


def nobody_to_ask(use: Use, to: Destination) -> bool:
    """Where nobody can be asked, a secret stays where it is."""
    return False


def released(place: SecretPlace, folder: Path, to: Destination, permit: Permit, what: str = "token") -> str:
    """A secret, to be sent there.

    RefusedError if the person has not allowed that, SecretError if it is missing, empty, or open to others.
    """
    value = own(place, folder, what)
    use = use_of(place, folder, to)
    at_home = place.kind == "file" and not named_files.is_foreign(place.name)
    if not (at_home and to.is_here) and use not in permissions().secrets:
        if not permit(use, to):
            raise RefusedError(
                f"the estate wants to send the {what} in {use.secret} to {to}, and you have not allowed that",
                f"if it is right: {in_words(use)}",
            )
        allow(secret=use)
    return value


def use_of(place: SecretPlace, folder: Path, to: Destination) -> Use:
    """What the person is asked to allow."""
    name = os.path.realpath(folder / place.name) if place.kind == "file" else place.name
    return Use(f"{place.kind} {name}", to.host, to.port, to.authority, not to.encrypted and not to.is_here)


def in_words(use: Use) -> str:
    """The command that allows a use."""
    by = ["--authority", "FILE"] if use.authority else []
    readable = ["--readable"] if use.readable else []
    to = f"{use.host}:{use.port}" if use.port else use.host
    return spelt("trust", "add", "--secret", use.secret, "--to", to, *by, *readable)


def own(place: SecretPlace, folder: Path, what: str = "token") -> str:
    """A secret that does not leave this program, without spaces around it. SecretError if it cannot be had."""
    value = _READERS[place.kind](place.name, folder, what).strip()
    if not value:
        raise SecretError(f"the {place.kind} {place.name} holds no {what}", _advice(place, what))
    keep_secret(value)
    if not value.isprintable():
        message = f"the {place.kind} {place.name} holds something that is no {what}"
        raise SecretError(message, f"a {what} is one line")
    return value


def require_ascii(value: str, place: SecretPlace) -> str:
    """A secret that goes into a header of HTTP. SecretError if it is not ASCII."""
    if not value.isascii():
        message = f"the {place.kind} {place.name} holds something that is no token"
        raise SecretError(message, "a token is one line of ASCII")
    return value


def _advice(place: SecretPlace, what: str) -> str:
    if place.kind == "keyring":
        return f"put it there: python -m keyring set {SERVICE} {place.name}"
    return f"set the variable {place.name}" if place.kind == "environment" else f"write the {what} into it"


def require_closed(handle: int, shown: str) -> None:
    """SecretError if others may read an open file."""
    if os.fstat(handle).st_mode & (stat.S_IRWXG | stat.S_IRWXO):
        raise SecretError(f"others may read the secret in {shown}", f"close it first: chmod 600 {shown}")


def _from_environment(name: str, folder: Path, what: str) -> str:
    return os.environ.get(name, "")


def _from_file(name: str, folder: Path, what: str) -> str:
    """A file in the estate, reached without a link; or one elsewhere, which is the person's business."""
    try:
        if not named_files.is_foreign(name):
            with beneath.opened(folder, name) as handle:
                return _closed_text(handle, name)
        handle = beneath.regular(os.path.realpath(folder / name))
        try:
            return _closed_text(handle, name)
        finally:
            os.close(handle)
    except (OSError, ValueError) as error:
        reason = error.strerror if isinstance(error, OSError) else "it is not text"
        message = f"the secret in {name} cannot be read: {reason}"
        raise SecretError(message, "make the file, readable by you alone") from error


def _closed_text(handle: int, name: str) -> str:
    require_closed(handle, name)
    return beneath.content_of(handle).decode()


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


def passwords(place: SecretPlace, folder: Path, to: Destination, permit: Permit) -> dict[str, str]:
    """Login -> password, from a file with a line `login password` for each; to be sent there.

    RefusedError if the person has not allowed that, SecretError if the file is open to others or holds something else.
    """
    if place.kind != "file":
        raise SecretError("the people's passwords are in no file", "say `passwords from: file PATH`")
    use = use_of(place, folder, to)
    at_home = not named_files.is_foreign(place.name)
    if not (at_home and to.is_here) and use not in permissions().secrets:
        if not permit(use, to):
            message = f"the estate wants to send the passwords in {use.secret} to {to}, and you have not allowed that"
            raise RefusedError(message, f"if it is right: {in_words(use)}")
        allow(secret=use)
    found: dict[str, str] = {}
    for number, line in enumerate(_from_file(place.name, folder, "password").splitlines(), 1):
        login, _, password = line.strip().partition(" ")
        if login and not password.strip():
            message = f"{place.name}:{number}: found no password"
            raise SecretError(message, "write a login, a space and the password in each line")
        if login:
            keep_secret(password.strip())
            found[login] = password.strip()
    return found
