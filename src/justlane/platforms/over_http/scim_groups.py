"""Groups of a platform written by SCIM 2.0 (RFC 7644) rather than by our own interface: `with: {groups by: scim}`."""

from __future__ import annotations

from typing import Protocol
from urllib.parse import urlencode

import msgspec

from justlane.model.errors import NonsenseError, PlatformRefusedError
from justlane.outside.http import Answer
from justlane.platforms.interface import Entry

_GROUP = "urn:ietf:params:scim:schemas:core:2.0:Group"
_PAGE, _MOST_PAGES = 500, 10_000


class Sending(Protocol):
    """Sends a request with our token."""

    def __call__(
        self,
        method: str,
        path: str,
        *,
        body: Entry | None = None,
        version: str = "",
        expected: tuple[int, ...] = (200,),
    ) -> Answer:
        """The answer, if its status is one of those expected."""


class _Meta(msgspec.Struct):
    version: str = ""


class _Resource(msgspec.Struct):
    id: str
    user_name: str = msgspec.field(name="userName", default="")
    display_name: str = msgspec.field(name="displayName", default="")
    meta: _Meta = msgspec.field(default_factory=_Meta)


class _Listed(msgspec.Struct):
    total: int = msgspec.field(name="totalResults")
    resources: list[_Resource] = msgspec.field(name="Resources", default_factory=list)


class ScimGroups:
    """The groups of one platform."""

    def __init__(self, who: str, send: Sending) -> None:
        self._who, self._send = who, send

    def write(self, name: str, entry: Entry | None) -> None:
        """Make a group, replace its members, or take it away. PlatformRefusedError if a member is not there."""
        groups = {one.display_name: one for one in self._all("Groups")}
        there = groups.get(name)
        if entry is None:
            if there is not None:
                path, version = f"/scim/v2/Groups/{there.id}", there.meta.version
                self._send("DELETE", path, version=version, expected=(204,))
            return
        ids = {f"group {known}": one.id for known, one in groups.items()}
        ids |= {f"user {one.user_name}": one.id for one in self._all("Users")}
        members = entry.get("members")
        some = [str(member) for member in members] if isinstance(members, list) else []
        missing = [member for member in some if member not in ids]
        if missing:
            hint = "let the directory make them there first"
            raise PlatformRefusedError(f"{self._who} knows no {missing[0]}, who is to be in group {name}", hint)
        kinds = {"user": "User", "group": "Group"}
        said: Entry = {
            "schemas": [_GROUP],
            "displayName": name,
            "members": [{"value": ids[member], "type": kinds[member.partition(" ")[0]]} for member in some],
        }
        if there is None:
            self._send("POST", "/scim/v2/Groups", body=said, expected=(201,))
        else:
            path, version = f"/scim/v2/Groups/{there.id}", there.meta.version
            self._send("PUT", path, body={**said, "id": there.id}, version=version)

    def _all(self, kind: str) -> list[_Resource]:
        """Every user or group; NonsenseError if the pages do not end, or something is missing at their end."""
        found: list[_Resource] = []
        for _ in range(_MOST_PAGES):
            asked = urlencode({"startIndex": len(found) + 1, "count": _PAGE, "excludedAttributes": "members"})
            answer = self._send("GET", f"/scim/v2/{kind}?{asked}")
            try:
                page = msgspec.json.decode(answer.content, type=_Listed)
            except (msgspec.MsgspecError, UnicodeDecodeError, RecursionError) as error:
                raise NonsenseError(f"{self._who} answered nonsense to SCIM: {error}", "see its own log") from error
            found += page.resources
            if len(found) >= page.total:
                return found
            if not page.resources:
                break
        raise NonsenseError(f"{self._who} lists {len(found)} {kind} of more", "try again; see its own log")
