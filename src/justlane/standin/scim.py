"""The people and groups of a stand-in as SCIM 2.0 (RFC 7643, 7644), at `/scim/v2`, for directories that push.

The protocol is the library's; here is the storage: what SCIM writes becomes accounts and groups of the site, in its
revisions, and what changes otherwise shows here. Attributes that a stand-in has no use for are kept and given back.
"""

from __future__ import annotations

import hashlib
import hmac
from collections.abc import Callable
from datetime import datetime
from typing import Any

from scim2_models import (
    AuthenticationScheme,
    GroupMember,
    InvalidValueException,
    Meta,
    Resource,
    ResourceType,
    ScimProvider,
    ServiceProviderConfig,
    UnauthorizedException,
)
from scim2_models import Group as ScimGroup
from scim2_models import User as ScimUser
from scim2_server.applications.asgi import ASGIApplication
from scim2_server.memory import AsyncInMemoryStorage, InMemoryStorage
from scim2_server.requests import ScimRequest
from scim2_server.service import ScimService

from justlane.standin.site import Group, Person, Site, split_principal

Changed = Callable[[list[tuple[str, str]]], None]
"""Told of what was changed, (part, name) each, once the site has it."""

_PATH = "/scim"


def application(site: Site, token: str, changed: Changed) -> ASGIApplication:
    """The application, over a site."""
    return _Application(_Storage(site, changed), token)


class _Application(ASGIApplication):
    def __init__(self, storage: _Storage, token: str) -> None:
        scheme = AuthenticationScheme(
            type=AuthenticationScheme.Type.oauthbearertoken, name="token", description="A bearer token."
        )
        on = {"supported": True}
        config = ServiceProviderConfig.model_validate(
            {
                "patch": on,
                "bulk": {"supported": False, "maxOperations": 0, "maxPayloadSize": 0},
                "filter": {"supported": True, "maxResults": 1000},
                "changePassword": {"supported": False},
                "sort": on,
                "etag": on,
                "authenticationSchemes": [scheme],
            }
        )
        types = [ResourceType.from_resource(ScimUser), ResourceType.from_resource(ScimGroup)]
        provider = ScimProvider([ScimUser, ScimGroup], types, config)
        super().__init__(AsyncInMemoryStorage(storage), provider, ScimService(provider))
        self._token, self._kept = token, storage

    def check_auth(self, request: ScimRequest) -> None:
        """Whoever has the stand-in's token."""
        scheme, _, token = (request.header("Authorization") or "").partition(" ")
        if scheme.lower() != "bearer" or not hmac.compare_digest(token.strip().encode(), self._token.encode()):
            raise UnauthorizedException
        self._kept.follow()


class _Storage(InMemoryStorage):
    """Resources in memory, made from the site and written through to it."""

    def __init__(self, site: Site, changed: Changed) -> None:
        super().__init__()
        self._site, self._changed = site, changed
        self._revision = -1

    def follow(self) -> None:
        """Take over what the site has, if it changed otherwise."""
        if self._revision == self._site.revision:
            return
        self._revision = self._site.revision
        known = {self._key(kept): kept for kept in self._site.scim.values()}
        users = {
            login: self._user(login, person.enabled, known.get(("User", login)))
            for login, person in self._site.people.items()
        }
        ids = {f"user {login}": str(user.id) for login, user in users.items()}
        ids |= {f"group {n}": str(known.get(("Group", n), {}).get("id") or _id("Group", n)) for n in self._site.groups}
        groups = [
            self._group(name, group, ids, known.get(("Group", name))) for name, group in self._site.groups.items()
        ]
        self.resources = [*users.values(), *groups]

    def generate_id(self, resource_type: ResourceType, resource: Resource[Any]) -> str:
        """The same for the same name, whoever makes it."""
        return _id(str(resource_type.name), _name(resource))

    def create(self, resource_type: ResourceType, resource: Resource[Any]) -> Resource[Any]:
        """A new account or group."""
        self._require_members(resource)
        made = super().create(resource_type, resource)
        self._write(made, None)
        return made

    def update(
        self, resource_type: ResourceType, resource: Resource[Any], *, expected_version: str | None = None
    ) -> Resource[Any]:
        """One that is changed, perhaps renamed."""
        self._require_members(resource)
        before = _name(self._stored(resource_type, resource.id))
        made = super().update(resource_type, resource, expected_version=expected_version)
        self._write(made, before)
        return made

    def delete(self, resource_type: ResourceType, resource_id: str, *, expected_version: str | None = None) -> None:
        """One that is gone, out of the groups too."""
        gone = self._stored(resource_type, resource_id)
        super().delete(resource_type, resource_id, expected_version=expected_version)
        part, name = _part(gone), _name(gone)
        getattr(self._site, part).pop(name, None)
        self._site.scim.pop(str(gone.id), None)
        kind = "user" if part == "people" else "group"
        for group in self._site.groups.values():
            group.members = [member for member in group.members if member != f"{kind} {name}"]
        self._tell(part, name)

    def _write(self, resource: Resource[Any], before: str | None) -> None:
        part, name = _part(resource), _name(resource)
        if before is not None and before != name:
            self._rename(part, before, name)
        if isinstance(resource, ScimUser):
            self._site.people[name] = Person(resource.active is not False)
        else:
            members = getattr(resource, "members", None) or ()
            self._site.groups[name] = Group([self._member(m) for m in members])
        kept = resource.model_dump()
        kept.pop("members", None)
        self._site.scim[str(resource.id)] = kept
        self._tell(part, name)

    def _rename(self, part: str, before: str, name: str) -> None:
        getattr(self._site, part).pop(before, None)
        kind = "user" if part == "people" else "group"
        old, new = f"{kind} {before}", f"{kind} {name}"
        for group in self._site.groups.values():
            group.members = [new if member == old else member for member in group.members]

    def _tell(self, part: str, name: str) -> None:
        self._changed([(part, name)])
        self._revision = self._site.revision

    def _require_members(self, resource: Resource[Any]) -> None:
        for member in getattr(resource, "members", None) or ():
            self._member(member)

    def _member(self, member: GroupMember) -> str:
        for kind, said in (("User", "user"), ("Group", "group")):
            found = self._resources.get(kind, {}).get(str(member.value))
            if found is not None:
                return f"{said} {_name(found)}"
        raise InvalidValueException(detail=f"nobody here has the id {member.value!r}")

    def _user(self, login: str, enabled: bool, kept: dict[str, Any] | None) -> ScimUser[Any]:
        said = kept or {"id": _id("User", login), "displayName": login}
        user: ScimUser[Any] = ScimUser.model_validate({**said, "userName": login, "active": enabled})
        user.meta = self._meta("User", said)
        return user

    def _group(self, name: str, group: Group, ids: dict[str, str], kept: dict[str, Any] | None) -> ScimGroup:
        members = [
            {"value": ids[member], "type": "User" if split_principal(member)[0] == "user" else "Group"}
            for member in group.members
            if member in ids
        ]
        said = kept or {"id": ids[f"group {name}"]}
        found = ScimGroup.model_validate({**said, "displayName": name, "members": members})
        found.meta = self._meta("Group", said)
        return found

    def _meta(self, kind: str, said: dict[str, Any]) -> Meta:
        made = said.get("meta", {}).get("created")
        created = datetime.fromisoformat(made) if isinstance(made, str) else self.clock()
        return Meta(resource_type=kind, created=created, last_modified=self.clock(), version=self.next_version())

    @staticmethod
    def _key(kept: dict[str, Any]) -> tuple[str, str]:
        return ("User", kept["userName"]) if "userName" in kept else ("Group", str(kept.get("displayName")))


def _part(resource: Resource[Any]) -> str:
    return "people" if isinstance(resource, ScimUser) else "groups"


def _name(resource: Resource[Any]) -> str:
    return str(resource.user_name if isinstance(resource, ScimUser) else getattr(resource, "display_name", ""))


def _id(kind: str, name: str) -> str:
    return hashlib.blake2b(f"{kind} {name}".encode(), digest_size=12).hexdigest()
