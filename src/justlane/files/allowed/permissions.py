"""What the person has allowed: which secret may go where, and which files outside an estate may be read.

It is kept with the person's own settings, outside every estate, in a JSON file that only they can write.
"""

from __future__ import annotations

import msgspec

from justlane.files.allowed.own_settings import read_own, settings_folder, write_own
from justlane.model.errors import StorageError

FILE = "permissions.json"


class Use(msgspec.Struct, frozen=True, order=True):
    """A secret on its way to a service."""

    secret: str
    """`environment NAME`, `keyring NAME`, or `file PATH` with the whole path."""
    host: str
    """In lower case; of a socket its path."""
    port: int
    authority: str = ""
    """SHA-256 of the certificates that are trusted instead of the system's; empty for the system's."""
    readable: bool = False
    """Whether it is sent without encryption."""


class Permissions(msgspec.Struct, frozen=True):
    """Everything that the person has allowed."""

    secrets: tuple[Use, ...] = ()
    files: tuple[str, ...] = ()
    """Whole paths, links resolved."""
    places: tuple[str, ...] = ()
    """Whole paths of files and folders that platforms stand for, and that may be changed."""


def permissions() -> Permissions:
    """What is allowed now. StorageError if the file cannot be believed."""
    content = read_own(FILE)
    if content is None:
        return Permissions()
    try:
        return msgspec.json.decode(content, type=Permissions)
    except (msgspec.DecodeError, UnicodeDecodeError, RecursionError) as error:
        message = f"{settings_folder()}/{FILE} cannot be understood: {error}"
        raise StorageError(message, "take it away; you are asked again then") from error


def allow(*, secret: Use | None = None, file: str | None = None, place: str | None = None) -> None:
    """Remember that something is allowed. StorageError if that cannot be kept."""
    now = permissions()
    secrets = now.secrets if secret is None else tuple(sorted({*now.secrets, secret}))
    files = now.files if file is None else tuple(sorted({*now.files, file}))
    places = now.places if place is None else tuple(sorted({*now.places, place}))
    _keep(Permissions(secrets, files, places))


def forget(*, secret: Use | None = None, file: str | None = None, place: str | None = None) -> None:
    """Allow something no more."""
    now = permissions()
    _keep(
        Permissions(
            tuple(s for s in now.secrets if s != secret),
            tuple(f for f in now.files if f != file),
            tuple(p for p in now.places if p != place),
        )
    )


def _keep(new: Permissions) -> None:
    write_own(FILE, msgspec.json.format(msgspec.json.encode(new), indent=1))
