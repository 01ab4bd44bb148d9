"""Probes that were kept: one that was stopped goes on where it was, and the next one can say what is new.

In `probes/PLATFORM` of the estate, closed to others: what is under way, a line of JSON a person, and the last result.
Each is sealed: nothing is proved by a line that somebody else put there.
"""

from __future__ import annotations

import hashlib
from collections.abc import Mapping, Sequence
from datetime import UTC, datetime, timedelta
from pathlib import Path

import msgspec

from justlane.files.allowed.seals import is_own, read_sealed, sealed
from justlane.files.disk.beneath import CLOSED, is_file
from justlane.files.disk.durable import append_durably, lines_of, write_atomically
from justlane.model.errors import StorageError
from justlane.platforms.proof.choice import Chosen
from justlane.platforms.proof.probe import Difference, Named, News, ProbeResult, Tried, context_of

FOLDER = "probes"
_LONGEST = timedelta(days=1)
"""A probe that was begun longer ago is begun afresh."""


class EarlierProbe(msgspec.Struct, frozen=True):
    """The last result, as far as the next one is compared with it."""

    when: str
    """UTC, ISO 8601."""
    differences: tuple[Difference, ...]
    kept_out: tuple[str, ...] = ()
    let_in: tuple[str, ...] = ()


class _Mark(msgspec.Struct, frozen=True):
    """The first line of what is under way: of which probe it is."""

    of: str
    seed: int
    begun: str
    """UTC, ISO 8601."""

    @property
    def fresh(self) -> bool:
        """Whether it was begun lately: what was found long ago proves nothing of today."""
        age = datetime.now(UTC) - datetime.fromisoformat(self.begun)
        return timedelta() <= age < _LONGEST


class UnderWay:
    """A probe that is under way, or was when it stopped."""

    def __init__(self, folder: Path, platform: str, chosen: Chosen, named: Sequence[Named], about: str) -> None:
        """`about` says all else that must be the same for going on: the estate, how much is tried."""
        self._folder, self._name = folder, f"{FOLDER}/{platform}/under-way.jsonl"
        contexts = [{k: v for k, v in context_of(q).items() if k != "time"} for _, q in named]
        told = msgspec.json.encode([chosen.people, chosen.scopes, [n for n, _ in named], contexts, about])
        begun = datetime.now(UTC).isoformat(timespec="seconds")
        self._mark = _Mark(hashlib.blake2b(told, digest_size=12).hexdigest(), chosen.coverage.seed, begun)

    def known(self) -> Mapping[tuple[str, str], Tried]:
        """What is known of it already; nothing if the one under way was another one."""
        lines = lines_of(self._folder, self._name)
        mark = _own_mark(self._folder, self._name, lines)
        if mark is None or (mark.of, mark.seed) != (self._mark.of, self._mark.seed):
            return {}
        self._mark = mark
        found: dict[tuple[str, str], Tried] = {}
        for line in lines[1:]:
            if not is_own(self._folder, self._purpose, line):
                continue  # being written when the power went, or not by this person for this probe
            tried = msgspec.json.decode(line, type=Tried)
            found[tried.login, tried.situation] = tried
        return found

    @property
    def _purpose(self) -> str:
        """What a line is for: this very probe."""
        return f"{self._name} {self._mark.of} {self._mark.seed} {self._mark.begun}"

    def begin(self) -> None:
        """Start afresh."""
        keep_closed(self._folder)
        mark = sealed(self._folder, self._name, msgspec.json.encode(self._mark))
        write_atomically(self._folder, self._name, mark + b"\n", CLOSED)

    def add(self, tried: Tried) -> None:
        """Keep what came of one person."""
        append_durably(self._folder, self._name, sealed(self._folder, self._purpose, msgspec.json.encode(tried)))

    def end(self) -> None:
        """It is done: nothing is left to go on with."""
        write_atomically(self._folder, self._name, b"", CLOSED)


def seed_under_way(folder: Path, platform: str) -> int | None:
    """The seed of a probe of one's own that was stopped; None if none was."""
    name = f"{FOLDER}/{platform}/under-way.jsonl"
    lines = lines_of(folder, name)
    mark = _own_mark(folder, name, lines)
    return mark.seed if mark else None


def _own_mark(folder: Path, name: str, lines: Sequence[bytes]) -> _Mark | None:
    """The mark of a probe that this person began lately."""
    if not lines or not is_own(folder, name, lines[0]):
        return None
    mark = msgspec.json.decode(lines[0], type=_Mark)
    return mark if mark.fresh else None


def keep_closed(folder: Path) -> None:
    """Keep what is kept here out of git."""
    if not is_file(folder, f"{FOLDER}/.gitignore"):
        write_atomically(folder, f"{FOLDER}/.gitignore", b"*\n", CLOSED)


def news(folder: Path, result: ProbeResult) -> News | None:
    """What is new beside the last result of the platform; None if there was none of one's own. StorageError if that
    cannot be read."""
    name = _last(result.platform)
    if not is_file(folder, name):
        return None
    try:
        line = read_sealed(folder, name, name)
        earlier = None if line is None else msgspec.json.decode(line, type=EarlierProbe)
    except (OSError, msgspec.MsgspecError, UnicodeDecodeError, RecursionError) as error:
        raise StorageError(f"{name} cannot be read: {error}", "take it out; a new one is kept") from error
    if earlier is None:
        return None  # somebody else's
    was, now = set(map(_same, earlier.differences)), set(map(_same, result.differences))
    new = tuple(d for d in result.differences if _same(d) not in was)
    return News(earlier.when, new, tuple(d for d in earlier.differences if _same(d) not in now))


def keep(folder: Path, result: ProbeResult, moment: datetime) -> None:
    """Keep a result for the next one."""
    keep_closed(folder)
    when = moment.astimezone(UTC).isoformat(timespec="seconds")
    earlier = EarlierProbe(when, result.differences, result.kept_out, result.let_in)
    name = _last(result.platform)
    write_atomically(folder, name, sealed(folder, name, msgspec.json.encode(earlier)), CLOSED)


def _same(d: Difference) -> tuple[str, str, str, bool, str]:
    return (d.user, d.action, d.scope, d.declared, d.situation)


def _last(platform: str) -> str:
    return f"{FOLDER}/{platform}/last.json"
