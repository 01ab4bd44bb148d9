"""Reviews that were given out: what each owner was asked, for which state of the estate, and what they answered.

They are kept in the folder `reviews` of the estate, one file a review.
"""

from __future__ import annotations

import hashlib
import os
import re
from collections.abc import Mapping
from datetime import UTC, datetime
from pathlib import Path

import msgspec

from justlane.files.disk.beneath import open_folder, read
from justlane.files.disk.durable import write_atomically
from justlane.model.errors import StorageError, UsageError

FOLDER = "reviews"
_ENDING = ".json"
_NAME = re.compile(r"^[0-9a-z-]{6,80}$")
DECISIONS = ("keep", "remove", "ask")
SHOWN = (
    "role", "which is for", "given to", "who are", "people", "who, and through what", "at", "a place for", "when",
    "because", "last changed", "findings", "line",
)  # fmt: skip
"""The columns that owners see, which must come back as they went out."""


class Answered(msgspec.Struct, frozen=True):
    """What an owner says about one grant."""

    decision: str
    """`keep`, `remove` or `ask`."""
    by: str
    when: str
    """UTC, ISO 8601."""
    comment: str = ""


class Asked(msgspec.Struct, frozen=True):
    """One grant, as it was shown to the owner."""

    key: str
    said: dict[str, str]
    """The columns that must come back as they went out."""

    def __str__(self) -> str:
        """`station-keeper to group crew at fieldnet/north`."""
        return f"{self.said['role']} to {self.said['given to']} at {self.said['at']}"


class Review(msgspec.Struct, frozen=True):
    """One workbook that was given out."""

    name: str
    owner: str
    """`user NAME` or `group NAME`."""
    made: str
    """UTC, ISO 8601."""
    by: str
    state: str
    """Digest of all files of the estate, and of its people."""
    asked: tuple[Asked, ...]
    answers: dict[str, Answered] = {}
    """By key."""

    @property
    def outstanding(self) -> list[Asked]:
        """What nobody has answered yet."""
        return [one for one in self.asked if one.key not in self.answers]


def state_of(digests: Mapping[str, str], snapshot: str) -> str:
    """A digest of the state that a review is made from."""
    said = "\0".join([snapshot, *(f"{file}\0{digests[file]}" for file in sorted(digests))])
    return hashlib.blake2b(said.encode("utf-8", "surrogatepass"), digest_size=16).hexdigest()


def name_of(owner: str, moment: datetime) -> str:
    """A name for a new review."""
    who = re.sub(r"[^a-z0-9]+", "-", owner.lower()).strip("-")[:50]
    return f"{moment.astimezone(UTC):%Y%m%d-%H%M%S}-{who}"


def keep(folder: Path, review: Review) -> None:
    """Write a review down. StorageError if that is impossible."""
    content = msgspec.json.format(msgspec.json.encode(review), indent=1)
    write_atomically(folder, f"{FOLDER}/{review.name}{_ENDING}", content + b"\n")


def reviews(folder: Path) -> list[Review]:
    """All reviews, the oldest first. StorageError if one is damaged."""
    try:
        with open_folder(folder, (FOLDER,)) as handle:
            names = sorted(n.removesuffix(_ENDING) for n in os.listdir(handle) if n.endswith(_ENDING))
    except FileNotFoundError:
        return []
    except OSError as error:
        raise StorageError(f"{FOLDER} cannot be read: {error.strerror}", "see who may read it") from error
    return [review(folder, name) for name in names if _NAME.match(name)]


def review(folder: Path, name: str) -> Review:
    """A review by its name. UsageError if there is none, StorageError, for the ValueError within, if it is damaged."""
    if not _NAME.match(name):
        raise UsageError(f"{name!r} is no name of a review", "`justlane review status` lists them")
    place = f"{FOLDER}/{name}{_ENDING}"
    try:
        found = msgspec.json.decode(read(folder, place), type=Review)
        if found.name != name or any(set(one.said) != set(SHOWN) for one in found.asked):
            raise ValueError("it is not as it was written")
        return found
    except FileNotFoundError as error:
        raise UsageError(f"there is no review {name!r} here", "`justlane review status` lists them") from error
    except (OSError, ValueError, msgspec.MsgspecError) as error:
        raise StorageError(f"{place} cannot be read: {error}", "take it back from where it is kept") from error
