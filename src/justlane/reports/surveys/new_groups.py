"""New groups to ask the directory's owners for, as files that they can carry out.

LDIF change records (RFC 2849) with `groupOfNames` (RFC 4519), a bulk request of SCIM 2.0 (RFC 7644, section 3.7), or a
table with a row for each member.
"""

from __future__ import annotations

import base64
import json
from collections.abc import Callable, Mapping, Sequence

from justlane.engine.regrouping.proposals import NewGroup
from justlane.model.errors import UsageError
from justlane.model.names import some_of
from justlane.model.people import User
from justlane.reports.text.look import Sheet

_SPECIAL = ',+"\\<>;='
"""Letters that a name in a distinguished name has to be written with a backslash for (RFC 4514)."""


class Asked:
    """New groups, with where they would stand in a directory."""

    def __init__(self, groups: Sequence[NewGroup], users: Mapping[str, User], under: str, people_under: str) -> None:
        self._groups, self._users = groups, users
        self._under, self._people_under = under, people_under

    def as_csv(self) -> str:
        """A row for each member: group, what it is for, login."""
        rows = [(one.name, purpose(one), login) for one in self._groups for login in one.people]
        return Sheet(("group", "for", "member"), rows).as_csv()

    def as_scim(self) -> str:
        """One bulk request. UsageError for a member whose id the directory did not say."""
        made = [self._operation(number, one) for number, one in enumerate(self._groups, 1)]
        schema = "urn:ietf:params:scim:api:messages:2.0:BulkRequest"
        return json.dumps({"schemas": [schema], "failOnErrors": 1, "Operations": made}, indent=2) + "\n"

    def _operation(self, number: int, group: NewGroup) -> dict[str, object]:
        members = [{"value": self._id(login), "display": login} for login in group.people]
        schema = "urn:ietf:params:scim:schemas:core:2.0:Group"
        data = {"schemas": [schema], "displayName": group.name, "members": members}
        return {"method": "POST", "path": "/Groups", "bulkId": f"group-{number}", "data": data}

    def _id(self, login: str) -> str:
        known = self._users[login].id if login in self._users else ""
        if not known:
            message = f"--new-groups: SCIM names members by their id, and the directory said none of {login}"
            raise UsageError(message, "write a .csv or an .ldif instead")
        return known

    def as_ldif(self) -> str:
        """A change record for each group. UsageError if it was not said where groups and people are."""
        if not self._under or not self._people_under:
            hint = "for example: --under ou=groups,dc=example --people-under ou=people,dc=example"
            raise UsageError("--new-groups: an LDIF file has to say where groups and people are", hint)
        return "version: 1\n\n" + "\n".join(map(self._record, self._groups))

    def _record(self, group: NewGroup) -> str:
        said = [
            ("dn", f"cn={escaped(group.name)},{self._under}"),
            ("changetype", "add"),
            ("objectClass", "groupOfNames"),
            ("cn", group.name),
            ("description", purpose(group)),
            *(("member", f"uid={escaped(login)},{self._people_under}") for login in group.people),
        ]
        return "".join(f"{written(key, value)}\n" for key, value in said)


FORMS: dict[str, Callable[[Asked], str]] = {".csv": Asked.as_csv, ".json": Asked.as_scim, ".ldif": Asked.as_ldif}
"""Ending of a file -> what is written into it."""


def purpose(group: NewGroup) -> str:
    """What a new group is for, in words."""
    return f"Has {some_of([f'{role} at {scope}' for role, scope in group.lines], 3)}."


def escaped(name: str) -> str:
    """A name as a part of a distinguished name."""
    text = "".join(f"\\{letter}" if letter in _SPECIAL else letter for letter in name)
    return f"\\{text}" if text.startswith(("#", " ")) else text


def written(key: str, value: str) -> str:
    """A line of LDIF: as it is where that is safe, in Base64 otherwise."""
    safe = value.isascii() and value.isprintable() and not value.startswith((" ", ":", "<")) and not value.endswith(" ")
    return f"{key}: {value}" if safe else f"{key}:: {base64.b64encode(value.encode()).decode()}"
