"""An export of a platform: CSV (RFC 4180) or a JSON list of objects, with a declared map of columns."""

from __future__ import annotations

import csv
import hashlib
import io
from collections.abc import Iterator, Mapping

import msgspec

from justlane.model.errors import NonsenseError
from justlane.model.names import counted, did_you_mean
from justlane.platforms.interface import Part, Reading
from justlane.platforms.sheet.dialect import entry_of

_MOST_ROWS = 1_000_000


def reading_of(content: bytes, file: str, platform: str, columns: Mapping[str, str]) -> Reading:
    """What an export says. NonsenseError, with the line, if it is no export with these columns."""
    held: Part = {}
    for where, row in _rows(content, file):
        missing = [name for name in columns.values() if name not in row]
        if missing:
            hint = did_you_mean(missing[0], row, f"it has: {', '.join(row)}")
            raise NonsenseError(f"{where}: there is no column {missing[0]!r}", hint)
        said = {key: str(row[name] if row[name] is not None else "").strip() for key, name in columns.items()}
        if not any(said.values()):
            continue
        who = [f"{kind} {said[kind]}" for kind in ("group", "user") if said.get(kind)]
        if len(who) != 1 or not said["role"]:
            hint = "each row names a role and one group or one user; see what `columns` says"
            raise NonsenseError(f"{where}: found {counted(len(who), 'principal')} and the role {said['role']!r}", hint)
        scope = _scope(platform, said["place"])
        held[f"{said['role']} {scope} {who[0]}"] = entry_of(who[0], said["role"], scope)
    return Reading(hashlib.blake2b(content, digest_size=16).hexdigest(), {"bindings": held})


def _scope(platform: str, place: str) -> str:
    """A place as an address: the platform itself if none is named, and its name may be left out."""
    place = place.strip("/")
    if not place or place == platform:
        return platform
    return place if place.startswith(f"{platform}/") else f"{platform}/{place}"


def _rows(content: bytes, file: str) -> Iterator[tuple[str, Mapping[str, object]]]:
    """Each row with where it stands."""
    try:
        text = content.decode("utf-8-sig")
    except UnicodeDecodeError as error:
        raise NonsenseError(f"{file}: it is not UTF-8", "export it as UTF-8") from error
    if text.lstrip()[:1] in ("[", "{"):
        yield from _objects(text, file)
        return
    try:
        reader = csv.DictReader(io.StringIO(text, newline=""), restkey="", strict=True)
        for row in reader:
            yield f"{file}:{reader.line_num}", row
            if reader.line_num > _MOST_ROWS:
                raise NonsenseError(f"{file}: more than {_MOST_ROWS:,} rows", "see what was exported")
    except csv.Error as error:
        raise NonsenseError(f"{file}: it is no CSV: {error}", "export it as CSV or JSON") from error


def _objects(text: str, file: str) -> Iterator[tuple[str, Mapping[str, object]]]:
    try:
        found = msgspec.json.decode(text, type=list[dict[str, str | int | float | bool | None]])
    except (msgspec.MsgspecError, RecursionError) as error:
        raise NonsenseError(f"{file}: it is no JSON list of objects: {error}", "export it as CSV or JSON") from error
    for number, row in enumerate(found, 1):
        yield f"{file}: object {number}", row
