"""The file in which a stand-in is kept."""

from __future__ import annotations

from pathlib import Path
from typing import NamedTuple

import msgspec

from justlane.files.disk import beneath
from justlane.files.disk.durable import write_atomically
from justlane.model.errors import StorageError
from justlane.standin.site import PARTS, Nature, Site
from justlane.standin.soundness import require_sound


class Shelf(NamedTuple):
    """The file in which a stand-in is kept: beneath a folder, reached without a link."""

    top: Path
    name: str | Path


def open_standin(shelf: Shelf, platform: str, nature: Nature) -> Site:
    """The stand-in kept in a file, with the nature that is declared now; a new one if there is no file.

    StorageError if it holds what no stand-in keeps.
    """
    try:
        site = msgspec.json.decode(beneath.read(*shelf), type=Site)
        for part in PARTS:
            for name, entry in getattr(site, part).items():
                require_sound(name, entry)
    except FileNotFoundError:
        return Site(platform, nature)
    except (OSError, ValueError, RecursionError) as error:
        reason = getattr(error, "strerror", None) or error
        message = f"the stand-in's file {shelf.top / shelf.name} cannot be read: {reason}"
        raise StorageError(message, "take it away to start afresh") from error
    site.nature = nature
    return site


def keep(shelf: Shelf, site: Site) -> None:
    """Replace the file in one step."""
    write_atomically(*shelf, msgspec.json.format(msgspec.json.encode(site), indent=1), beneath.CLOSED)
