"""Access control lists as the kernel keeps them (the extended attributes `system.posix_acl_access` and `_default`).

Layout: a 32-bit version (2), then for each entry 16 bits of tag, 16 of rights, 32 of number, all little-endian
(include/uapi/linux/posix_acl_xattr.h of the Linux kernel).
"""

from __future__ import annotations

import errno
import os
import stat
import struct
from typing import NamedTuple

ACCESS, DEFAULT = "system.posix_acl_access", "system.posix_acl_default"
OWNER, USER, OWNING_GROUP, GROUP, MASK, OTHERS = 0x01, 0x02, 0x04, 0x08, 0x10, 0x20
_VERSION, _NOBODY = 2, 0xFFFFFFFF
_HEAD, _ENTRY = struct.Struct("<I"), struct.Struct("<HHI")
_NAMED = (USER, GROUP)


class Entry(NamedTuple):
    """One line of a list."""

    tag: int
    rights: int
    """4 reading, 2 writing, 1 entering or running."""
    number: int
    """Of the user or group; of the rest 0xFFFFFFFF."""


def read(handle: int, name: str) -> list[Entry]:
    """The list of an open file; what its mode says, if it has none of its own. OSError, ValueError for nonsense."""
    try:
        content = os.getxattr(handle, name)
    except OSError as error:
        if error.errno not in (errno.ENODATA, errno.ENOTSUP):
            raise
        if name == DEFAULT:
            return []
        mode = stat.S_IMODE(os.fstat(handle).st_mode)
        parts = ((OWNER, mode >> 6), (OWNING_GROUP, mode >> 3), (OTHERS, mode))
        return [Entry(tag, bits & 7, _NOBODY) for tag, bits in parts]
    if len(content) < _HEAD.size or _HEAD.unpack_from(content)[0] != _VERSION or (len(content) - 4) % _ENTRY.size:
        raise ValueError("its access control list is in a form that is not known")
    return [Entry(*item) for item in _ENTRY.iter_unpack(content[_HEAD.size :])]


def write(handle: int, name: str, entries: list[Entry]) -> None:
    """Set the list of an open file, in the order that the kernel wants; an empty default list is taken away."""
    if not entries:
        try:
            os.removexattr(handle, name)
        except OSError as error:
            if error.errno != errno.ENODATA:
                raise
        return
    ordered = sorted(entries, key=lambda entry: (entry.tag, entry.number))
    os.setxattr(handle, name, _HEAD.pack(_VERSION) + b"".join(_ENTRY.pack(*entry) for entry in ordered))


def with_mask(entries: list[Entry]) -> list[Entry]:
    """With a mask that lets through all that is said; without one where nobody is named."""
    rest = [entry for entry in entries if entry.tag != MASK]
    if not any(entry.tag in _NAMED for entry in rest):
        return rest
    most = 0
    for entry in rest:
        most |= entry.rights if entry.tag in (*_NAMED, OWNING_GROUP) else 0
    return [*rest, Entry(MASK, most or 1, _NOBODY)]  # with an empty mask the kernel would look at no entry at all


def mask_of(entries: list[Entry]) -> int:
    """What the mask lets through; all, where there is none."""
    return next((entry.rights for entry in entries if entry.tag == MASK), 7)


def base(handle: int, others: int = 0) -> list[Entry]:
    """What a list has to begin with: the owner's part as it is, the owning group's, closed, and the others'."""
    owner = stat.S_IMODE(os.fstat(handle).st_mode) >> 6 & 7
    return [Entry(OWNER, owner, _NOBODY), Entry(OWNING_GROUP, 0, _NOBODY), Entry(OTHERS, others, _NOBODY)]


def entries_of(said: object) -> list[Entry]:
    """Entries as a reading keeps them."""
    return [Entry(*map(int, one)) for one in said] if isinstance(said, list) else []


def letters(rights: int) -> str:
    """`r-x`."""
    return "".join(letter if rights & bit else "-" for letter, bit in zip("rwx", (4, 2, 1), strict=True))


def number_of(text: str) -> int:
    """The other way round."""
    return sum(bit for letter, bit in zip("rwx", (4, 2, 1), strict=True) if letter in text)
