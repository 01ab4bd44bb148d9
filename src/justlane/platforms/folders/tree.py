"""A tree of folders on this machine: its lists read and set, one place in one step; tried by becoming the person."""

from __future__ import annotations

import grp
import hashlib
import json
import os
import pwd
import stat
import subprocess
import sys
from collections.abc import Iterator, Sequence
from contextlib import contextmanager, suppress
from pathlib import Path

import msgspec
from msgspec.structs import replace

from justlane.files.disk.beneath import open_folder
from justlane.model.errors import (
    ChangeRefusedError,
    OutsideError,
    PlatformChangedError,
    PlatformRefusedError,
    UnreachableError,
)
from justlane.model.estate import Platform
from justlane.model.scopes import Scope
from justlane.outside.places import Place, place_to_change
from justlane.outside.secrets import Permit
from justlane.platforms.folders import lists
from justlane.platforms.folders.dialect import FILE, FOLDER, LETTERS
from justlane.platforms.folders.lists import DEFAULT, GROUP, OTHERS, OWNER, OWNING_GROUP, USER
from justlane.platforms.folders.trial import TRIAL
from justlane.platforms.interface import Corner, Entry, Part, Reading, Shown, Step

PARTS = ("groups", "owners", "sticky", "lists", "defaults", "left_alone", "accounts", "shared", "exactly", "unjudged")
"""What a reading has: `left_alone` are entries of accounts that are left alone, `accounts` in which groups these are,
`shared` places that are one and the same, `exactly` the lists as the kernel keeps them."""
_SECONDS = 60
_MOST_PLACES = 100_000


def connect(platform: Platform, folder: Path, permit: Permit) -> FolderTree:
    """A connector for the folder that the estate names; one outside of it has to be allowed."""
    del permit
    connection = platform.connection
    assert connection is not None
    return FolderTree(
        platform, place_to_change(folder, connection.settings["folder"]), frozenset(connection.leave_alone)
    )


class FolderTree:
    """The places of one platform, beneath one folder."""

    def __init__(self, platform: Platform, place: Place, alone: frozenset[str]) -> None:
        self._platform, self._place, self._alone = platform, place, alone
        self._without = platform
        """The same without a corner."""
        self._seen: dict[str, tuple[int, int]] = {}
        """Address -> which folder or file of the system stood there at the last reading."""

    def close(self) -> None:
        """Nothing is held open."""

    def read(self) -> Reading:
        """The lists of all declared places, and who is in the groups that they name."""
        parts: dict[str, Part] = {name: {} for name in PARTS}
        self._seen = {}
        inodes: dict[tuple[int, int], list[str]] = {}
        names: dict[str, int] = {}
        for address in self._platform.scopes:
            self._read_place(address, parts, inodes, names)
        for same in inodes.values():
            for address in same:
                others, more = [a for a in same if a != address], names[address] - len(same)
                if others or more > 0:
                    parts["shared"][address] = {"place": address, "with": others, "elsewhere": max(more, 0)}
        for name in sorted(self._alone):
            if (account := _user(name)) is not None and account.pw_uid:
                groups = os.getgrouplist(name, account.pw_gid)
                parts["accounts"][name] = {"groups": sorted(_name_of(GROUP, number) for number in groups)}
        said = msgspec.json.encode(parts, order="deterministic")
        return Reading(hashlib.blake2b(said, digest_size=16).hexdigest(), parts)

    def places(self) -> dict[str, str]:
        """Address -> kind of everything beneath the folder; links are left out. PlatformRefusedError if the system does
        not let them be seen."""
        found = {self._platform.name: FOLDER}
        with self._opened(self._platform.name) as top:
            for here, folders, files, at_handle in os.fwalk(".", dir_fd=top):
                kinds = {
                    name: os.stat(name, dir_fd=at_handle, follow_symlinks=False).st_mode for name in (*folders, *files)
                }
                folders[:] = [name for name in folders if stat.S_ISDIR(kinds[name])]
                files = [name for name in files if stat.S_ISREG(kinds[name])]
                inner = here.removeprefix(".").strip("/")
                at = f"{self._platform.name}/{inner}" if inner else self._platform.name
                found |= {f"{at}/{name}": FOLDER for name in folders}
                found |= {f"{at}/{name}": FILE for name in files}
                if len(found) > _MOST_PLACES:
                    message = f"{self._place.shown} holds more than {_MOST_PLACES:,} places"
                    raise PlatformRefusedError(message, "name a part of it with --below, or declare folders by hand")
        return found

    def make_corner(self, name: str) -> Corner:
        """A folder, with the machine's account for nobody in it."""
        with self._opened(self._platform.name) as top, self._told(name):
            os.mkdir(name, 0o700, dir_fd=top)
        address = f"{self._platform.name}/{name}"
        scopes = {**self._platform.scopes, address: Scope(address, FOLDER, "", self._platform.source)}
        self._without, self._platform = self._platform, replace(self._platform, scopes=scopes)
        return Corner(name, {address: FOLDER}, ("nobody",))

    def remove_corner(self, corner: Corner) -> None:
        """Take the folder away, if it is empty."""
        with self._opened(self._platform.name) as top, suppress(FileNotFoundError), self._told(corner.name):
            os.rmdir(corner.name, dir_fd=top)
        self._platform = self._without

    def change(self, steps: Sequence[Step], revision: str, key: str) -> str:
        """Set the lists of the places concerned, each in one step, if all are still as they were read.
        PlatformChangedError if they are not, ChangeRefusedError where the system refuses one."""
        del key  # a list that was set shows in the next reading
        seen = self._seen
        if self.read().revision != revision or (seen and self._seen != seen):
            message = f"{self._platform.name} was changed by somebody else meanwhile"
            raise PlatformChangedError(message, "run align again: it starts from what is there now")
        for place in dict.fromkeys(str((s.after or s.before or {})["place"]) for s in steps):
            own = [s for s in steps if (s.after or s.before or {})["place"] == place]
            try:
                with self._opened(place) as handle:
                    self._require_same(place, os.fstat(handle))
                    self._set_both(handle, own)
            except UnreachableError as error:
                raise ChangeRefusedError(error.message, error.hint) from error
        return self.read().revision

    def _require_same(self, address: str, known: os.stat_result) -> None:
        """PlatformChangedError if something else stands at a place than what was read and shown."""
        if self._seen.get(address) != (known.st_dev, known.st_ino):
            message = f"{address} is not any more what it was: something else was put in its place meanwhile"
            raise PlatformChangedError(message, "see who did that; nothing of it was changed")

    def evaluate(self, user: str, cells: Sequence[tuple[str, str, str]], context: Entry) -> list[bool | None]:
        """The system answers only by trying."""
        del user, context
        return [None] * len(cells)

    def can_become(self, user: str) -> bool:
        """Whether we may act as others, which takes root, and the machine knows the person."""
        return os.geteuid() == 0 and _user(user) is not None

    def sign_in(self, user: str, context: Entry) -> PersonSession | None:
        """Become the person, in a process of their own."""
        del context
        account = _user(user)
        return PersonSession(self._platform, self._place, account) if account else None

    def _read_place(
        self,
        address: str,
        parts: dict[str, Part],
        inodes: dict[tuple[int, int], list[str]],
        names: dict[str, int],
    ) -> None:
        try:
            with self._opened(address) as handle:
                known = os.fstat(handle)
                self._seen[address] = (known.st_dev, known.st_ino)
                entries, later = lists.read(handle, lists.ACCESS), lists.read(handle, DEFAULT)
        except (OutsideError, ValueError) as error:
            parts["unjudged"][address] = {"says": f"{address}: {error}"}
            return
        kind = FOLDER if stat.S_ISDIR(known.st_mode) else FILE
        declared = self._platform.scopes[address].kind
        if address != self._platform.name and kind != declared:
            parts["unjudged"][address] = {"says": f"{address} is a {kind}, and declared as a {declared}"}
        if kind == FILE and known.st_nlink > 1:
            inodes.setdefault((known.st_dev, known.st_ino), []).append(address)
            names[address] = known.st_nlink
        if known.st_mode & stat.S_ISVTX and kind == FOLDER and "sticky" not in self._alone:
            parts["sticky"][address] = {"place": address, "owner": _name_of(USER, known.st_uid)}
        raw = {"access": [list(one) for one in entries], "default": [list(one) for one in later]}
        parts["exactly"][address] = {"place": address, **raw}
        self._owner(address, known, entries, parts)
        for part, some in (("lists", entries), ("defaults", later)):
            mask = lists.mask_of(some)
            for to, rights, tag in self._named(some, known):
                entry: Entry = {"place": address, "to": to, "rights": lists.letters(rights)}
                effective = rights & mask if to != "others" else rights
                if effective != rights:
                    entry["effective"] = lists.letters(effective)
                if not mask and tag in (USER, GROUP) and part == "lists":
                    entry["skipped"] = (
                        True  # the kernel looks at no entry where the mask is empty, but at the mode alone
                    )
                alone = to.partition(" ")[2] in self._alone
                if alone:
                    entry["part"] = part
                parts["left_alone" if alone else part][f"{address} {to}{f' ({part})' if alone else ''}"] = entry
                if to.startswith("group "):
                    parts["groups"][to[6:]] = {"members": _members(to[6:])}

    def _owner(self, address: str, known: os.stat_result, entries: list[lists.Entry], parts: dict[str, Part]) -> None:
        owner = _name_of(USER, known.st_uid)
        if known.st_uid != os.geteuid() and owner not in self._alone:
            rights = next((lists.letters(entry.rights) for entry in entries if entry.tag == OWNER), "---")
            parts["owners"][address] = {"owner": owner, "place": address, "rights": rights}

    def _named(self, entries: list[lists.Entry], known: os.stat_result) -> Iterator[tuple[str, int, int]]:
        """Everybody whom a list names, with rights and the sort of entry; the owning group and the others only where
        they get something."""
        for entry in entries:
            if entry.tag in (USER, GROUP):
                yield (
                    f"{'user' if entry.tag == USER else 'group'} {_name_of(entry.tag, entry.number)}",
                    entry.rights,
                    entry.tag,
                )
            elif entry.tag == OWNING_GROUP and entry.rights:
                yield f"group {_name_of(GROUP, known.st_gid)}", entry.rights, entry.tag
            elif entry.tag == OTHERS and entry.rights:
                yield "others", entry.rights, entry.tag

    def _set_both(self, handle: int, steps: Sequence[Step]) -> None:
        """Both lists of a place: exactly as they were, or with everybody whom the steps name."""
        exactly = next((s.after for s in steps if s.part == "exactly" and s.after is not None), None)
        for part, name, key in (("lists", lists.ACCESS, "access"), ("defaults", DEFAULT, "default")):
            mine = [s for s in steps if s.part == part or (s.part == "left_alone" and _part_of(s) == part)]
            if exactly is not None:
                with self._told():
                    lists.write(handle, name, lists.entries_of(exactly.get(key)))
            elif mine:
                self._set(handle, name, mine)

    def _set(self, handle: int, name: str, steps: Sequence[Step]) -> None:
        """Everybody whom the steps name, in one list; the owning group and the others get nothing but what a step gives
        them. What the mask let through of entries that stay is what they keep."""
        now = lists.read(handle, name)
        mask = lists.mask_of(now)
        named = {(e.tag, e.number): e._replace(rights=e.rights & mask) for e in now if e.tag in (USER, GROUP)}
        others = next((entry.rights for entry in now if entry.tag == OTHERS), 0)
        for step in steps:
            entry = step.after or step.before or {}
            to = str(entry["to"])
            if to == "others":
                others = lists.number_of(str(step.after["rights"])) if step.after else 0
                continue
            tag, number = self._number(to)
            named.pop((tag, number), None)
            if step.after is not None:
                rights = str(step.after.get("effective", step.after["rights"]))
                named[tag, number] = lists.Entry(tag, lists.number_of(rights), number)
        entries = [*lists.base(handle, others), *named.values()] if named or name == lists.ACCESS else []
        with self._told():
            lists.write(handle, name, lists.with_mask(entries))

    def _number(self, to: str) -> tuple[int, int]:
        kind, _, name = to.partition(" ")
        try:
            return (USER, pwd.getpwnam(name).pw_uid) if kind == "user" else (GROUP, grp.getgrnam(name).gr_gid)
        except KeyError as error:
            if name.removeprefix("#").isdecimal():
                return (USER if kind == "user" else GROUP), int(name.removeprefix("#"))
            hint = "let the machine take its people from the directory, or make it known there first"
            raise ChangeRefusedError(f"this machine knows no {to}", hint) from error

    @contextmanager
    def _opened(self, address: str) -> Iterator[int]:
        """A place, open, reached step by step without a link."""
        *above, last = [*self._place.name.strip("/").split("/"), *address.split("/")[1:]]
        with self._told(address), open_folder(Path(self._place.top), tuple(above)) as folder:
            handle = os.open(last, os.O_RDONLY | os.O_NOFOLLOW | os.O_NONBLOCK | os.O_CLOEXEC, dir_fd=folder)
            try:
                yield handle
            finally:
                os.close(handle)

    @contextmanager
    def _told(self, address: str = "") -> Iterator[None]:
        try:
            yield
        except OSError as error:
            message = f"{address or self._place.shown} of {self._platform.name}: {error.strerror or error}"
            raise UnreachableError(message, "see whether it is there, no link, and who you are") from error


class PersonSession:
    """A process that became somebody."""

    def __init__(self, platform: Platform, place: Place, account: pwd.struct_passwd) -> None:
        self._platform, self._place = platform, place
        groups = os.getgrouplist(account.pw_name, account.pw_gid)
        self._process = subprocess.Popen(
            [sys.executable, "-I", "-S", "-c", TRIAL, *map(str, (account.pw_uid, account.pw_gid, *groups))],
            stdin=subprocess.PIPE,
            stdout=subprocess.PIPE,
            cwd="/",
            env={},
            text=True,
        )

    def sees(self) -> dict[str, Shown] | None:
        """What a folder lists to somebody is what it holds, or nothing: that is tried."""
        return None

    def attempt(self, action: str, scope: str) -> bool | None:
        """Open, list, enter; make a file without a name. Running something has effects, so it is not tried."""
        kind = FOLDER if scope == self._platform.name else self._platform.scopes[scope].kind
        if action not in LETTERS.get(kind, {}) or action == "run":
            return None
        path = self._place.path.joinpath(*scope.split("/")[1:])
        assert self._process.stdin is not None
        assert self._process.stdout is not None
        try:
            self._process.stdin.write(json.dumps([action, str(path)]) + "\n")
            self._process.stdin.flush()
            answer = self._process.stdout.readline().strip()
        except OSError:
            answer = ""
        return {"yes": True, "no": False}.get(answer)

    def close(self) -> None:
        """Let the process end."""
        self._process.communicate(timeout=_SECONDS)


def _part_of(step: Step) -> str:
    """Which of a place's two lists an entry of an account that is left alone is in."""
    return str((step.after or step.before or {}).get("part"))


def _user(login: str) -> pwd.struct_passwd | None:
    try:
        return pwd.getpwnam(login)
    except KeyError:
        return None


def _name_of(tag: int, number: int) -> str:
    try:
        return pwd.getpwuid(number).pw_name if tag == USER else grp.getgrgid(number).gr_name
    except KeyError:
        return f"#{number}"


def _members(name: str) -> list[str]:
    """Whoever the machine has in a group, as their first one or another."""
    try:
        known = grp.getgrnam(name)
    except KeyError:
        return []
    return sorted({*known.gr_mem, *(p.pw_name for p in pwd.getpwall() if p.pw_gid == known.gr_gid)})
