"""Everybody in numbers, as it is kept beside the rows: one array a row, with a digest over all of them.

Numbers are little-endian, of 32 bits; names are MessagePack. What was written by an earlier version is without, and
made from the rows.
"""

from __future__ import annotations

import hashlib
from collections.abc import Iterable, Iterator
from typing import TYPE_CHECKING

import msgspec
import numpy as np

from justlane.engine.arrays.directory import Columns, NumberedDirectory, order_of
from justlane.engine.arrays.lists import Ints, Lists, Numbers, sorted_by
from justlane.files.disk.tables import Tables

if TYPE_CHECKING:
    from justlane.files.people.population import Population

_NAMES = ("logins", "group names", "order", "enabled", "start", "members", "inner", "outer", "ends", "described")
_FLAGS = ("enabled", "described")
_DIGEST = "digest"


def arrays_of(people: Population) -> Iterator[tuple[str, bytes]]:
    """All arrays by name, and their digest."""
    logins = [login for login, *_ in people.users]
    held, nested = people.memberships()
    bodies = {
        "logins": msgspec.msgpack.encode(logins),
        "group names": msgspec.msgpack.encode([name for name, *_ in people.groups]),
        "order": _bytes(order_of(logins)),
        "enabled": np.array([enabled > 0 for _, _, enabled, *_ in people.users], np.uint8).tobytes(),
        "start": _bytes(held.start),
        "members": _bytes(held.items),
        "inner": _bytes(nested[0]),
        "outer": _bytes(nested[1]),
        "ends": _bytes(_ends([enabled for _, _, enabled, *_ in people.users])),
        "described": np.array([bool(purpose) for _, purpose, *_ in people.groups], np.uint8).tobytes(),
    }
    assert tuple(bodies) == _NAMES
    yield from bodies.items()
    yield _DIGEST, _digest(bodies.values())


def read_numbered(tables: Tables) -> NumberedDirectory:
    """Everybody in a file of people, in numbers. StorageError if it is damaged."""
    kept = tables.has("arrays")
    bodies = dict(tables.rows("SELECT name, body FROM arrays", (str, bytes))) if kept else {}
    if set(bodies) != {*_NAMES, _DIGEST}:
        return _from_rows(tables)  # another version wrote it
    if bodies.pop(_DIGEST) != _digest(bodies[name] for name in _NAMES):
        raise tables.damaged()
    logins, names = (tables.decoded(bodies[name], list[str]) for name in ("logins", "group names"))
    numbers = [name for name in _NAMES[2:] if name not in _FLAGS]
    if any(len(bodies[name]) % 4 for name in numbers):
        raise tables.damaged()
    order, start, members, inner, outer, ends = (np.frombuffer(bodies[name], "<i4") for name in numbers)
    enabled, described = (np.frombuffer(bodies[name], np.uint8) != 0 for name in _FLAGS)
    sound = (
        len(order) == len(enabled) == len(ends) == len(logins) == tables.count("users")
        and len(names) == len(described) == len(start) - 1 == tables.count("groups")
        and len(inner) == len(outer)
        and start[0] == 0
        and start[-1] == len(members)
        and bool((np.diff(start) >= 0).all())
        and bool((np.bincount(order, minlength=len(order)) == 1).all() if _within(order, len(order)) else False)
        and _within(members, len(logins))
        and all(_within(some, len(names)) for some in (inner, outer))
    )
    if not sound:
        raise tables.damaged()
    lists = Lists(start.astype(np.int64), members)
    return NumberedDirectory(logins, names, Columns(order, enabled, lists, inner, outer, described, ends))


def _from_rows(tables: Tables) -> NumberedDirectory:
    users = tables.rows("SELECT login, enabled, held FROM users ORDER BY id", (str, int, bytes))
    groups = tables.rows("SELECT name, purpose, held FROM groups ORDER BY id", (str, str, bytes))
    logins, names = [login for login, _, _ in users], [name for name, _, _ in groups]
    held, nested = (_lists([body for *_, body in rows]) for rows in (users, groups))
    if not all(_within(some.items, len(names)) for some in (held, nested)):
        raise tables.damaged()
    inner = np.repeat(np.arange(len(names), dtype=np.int32), np.diff(nested.start))
    holder = np.repeat(np.arange(len(logins), dtype=np.int32), np.diff(held.start))
    members = sorted_by(held.items, holder, len(names))
    enabled, ends = np.array([enabled for _, enabled, _ in users], np.bool_), _ends([e for _, e, _ in users])
    described = np.array([bool(purpose) for _, purpose, _ in groups], np.bool_)
    return NumberedDirectory(
        logins, names, Columns(order_of(logins), enabled, members, inner, nested.items, described, ends)
    )


def _ends(enabled: list[int]) -> Ints:
    """The last days of accounts, as rows keep them beside whether they are enabled."""
    kept = np.array(enabled, np.int32)
    return np.where(kept > 1, kept, 0).astype(np.int32)


def _lists(bodies: list[bytes]) -> Lists:
    """Rows of pairs (group, line) as lists of groups."""
    start = np.zeros(len(bodies) + 1, np.int64)
    np.cumsum([len(body) // 8 for body in bodies], out=start[1:])
    items = np.frombuffer(b"".join(body[: len(body) // 8 * 8] for body in bodies), "<i4")[::2]
    return Lists(start, items)


def _within(numbers: Ints, count: int) -> bool:
    return not len(numbers) or (int(numbers.min()) >= 0 and int(numbers.max()) < count)


def _bytes(numbers: Numbers) -> bytes:
    return numbers.astype("<i4").tobytes()


def _digest(bodies: Iterable[bytes]) -> bytes:
    found = hashlib.blake2b(digest_size=16)
    for body in bodies:
        found.update(len(body).to_bytes(8, "little"))
        found.update(body)
    return found.digest()
