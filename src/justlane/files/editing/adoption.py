"""What a platform holds, written into the estate: bindings, publications, roles and local groups."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from typing import NamedTuple

from justlane.engine.facts.index import EstateIndex, PlatformIndex
from justlane.files.building.bindings import principal_of
from justlane.files.editing import bindings, groups, roles
from justlane.files.editing.carried_out import carry_out
from justlane.files.editing.draft import Draft
from justlane.files.editing.many_lines import give_all
from justlane.files.in_place.scalars import Value, few
from justlane.model.accounts import AccountKind, Accounts
from justlane.model.bindings import Binding
from justlane.model.circumstances import Condition, parts_of
from justlane.model.edits import DropRole, Edit, Unpublish, Withdraw
from justlane.model.errors import RefusedError
from justlane.model.people import LocalGroup, Principal, PrincipalKind
from justlane.model.shell import spelt

Entry = Mapping[str, object]
AS_HELD = "As the platform holds it."
"""The reason of what was taken over."""


class HeldThere(NamedTuple):
    """One difference: what the platform holds, and what is declared; None for nothing."""

    part: str
    name: str
    held: Entry | None
    declared: Entry | None
    condition: Condition
    """Of what is held."""


def adopt(
    draft: Draft, index: EstateIndex, platform: str, some: Iterable[HeldThere], accounts: Accounts | None
) -> list[str]:
    """Write differences into the files; what could not be, in words: people and groups are the directory's.

    The differences speak of `accounts` (resolved), as the platform does, and the files of people."""
    prepared = index.platform(platform)
    people = _People(accounts)
    wanted = [one._replace(held=people.named(one.held), declared=people.named(one.declared)) for one in some]
    by_hand: list[str] = []
    gone: list[Edit] = []
    for one in wanted:
        if one.declared is not None and one.part == "bindings":
            gone += [Withdraw(tuple(found)) for found in _declared(prepared, one.declared)]
        elif one.held is None and one.part == "publications" and one.declared is not None:
            gone.append(Unpublish(str(one.declared["group"]), str(one.declared["scope"])))
        elif one.held is None and one.part == "roles":
            gone.append(DropRole(platform, one.name))
    carry_out(draft, index, gone)
    lines = _Lines(draft, index, prepared)
    for one in wanted:
        if one.held is not None:
            by_hand += lines.taken_over(one)
        elif one.part not in ("bindings", "publications", "roles"):
            by_hand.append(f"{one.part}: {one.name} is not on the platform")
    give_all(draft, lines.new, prepared)
    return by_hand


class _People:
    """Whose the accounts of a platform are."""

    def __init__(self, accounts: Accounts | None) -> None:
        self._accounts = accounts

    def principal(self, principal: Principal) -> tuple[Principal, str]:
        """A principal in the words of the files, and the account if it is not the person's own."""
        accounts = self._accounts
        if accounts is None or principal.kind is not PrincipalKind.USER:
            return principal, ""
        apart = principal.name if accounts.is_of(principal.name, AccountKind.ALSO) else ""
        return Principal(principal.kind, accounts.login(principal.name)), apart

    def named(self, entry: Entry | None) -> Entry | None:
        """An entry of a platform in the words of the files."""
        if entry is None or self._accounts is None:
            return entry
        whom = _principal_in(entry.get("principal"))
        found = dict(entry)
        if whom is not None:
            person, account = self.principal(whom)
            found |= {"principal": str(person), "account": account}
        if "members" in entry:
            members = [(text, _principal_in(text)) for text in _texts(entry["members"])]
            found["members"] = [str(self.principal(whom)[0]) if whom else text for text, whom in members]
        return found


Grant = tuple[Principal, frozenset[str], str, bool]
"""(principal, actions, scope, here only)."""


def adopt_grants(
    draft: Draft, index: EstateIndex, platform: str, grants: Iterable[Grant], accounts: Accounts | None
) -> list[str]:
    """Write grants of a platform without roles as lines: each with the role that holds just these actions there, or a
    new one. What could not be written, in words."""
    prepared = index.platform(platform)
    people = _People(accounts)
    new: list[bindings.NewLine] = []
    together: dict[tuple[Principal, str, bool], set[str]] = {}
    by_hand: list[str] = []
    made: dict[frozenset[str], str] = {}
    for principal, actions, scope, here_only in grants:
        together.setdefault((principal, scope, here_only), set()).update(actions & set(prepared.platform.actions))
        unknown = sorted(actions - set(prepared.platform.actions))
        by_hand += [f"{a} to {principal} at {scope}: the action is not declared" for a in unknown]
    for (principal, scope, here_only), some in together.items():
        said = f"{', '.join(sorted(some))} to {principal} at {scope}"
        principal, account = people.principal(principal)
        if scope not in prepared.platform.scopes:
            by_hand.append(f"{said}: that place is not declared; `{spelt('scope', 'pull', platform)}` writes it")
        elif some and not _is_known(index, principal):
            by_hand.append(f"{said}: the directory has no {principal}")
        elif some:
            role = _role_of_just(draft, prepared, scope, frozenset(some), made)
            new.append(
                bindings.NewLine((role,), (str(principal),), AS_HELD, (scope,), False, here_only, account=account)
            )
    give_all(draft, new, prepared)
    return by_hand


def _is_known(index: EstateIndex, principal: Principal) -> bool:
    directory = index.estate.directory
    names = {PrincipalKind.USER: directory.users, PrincipalKind.GROUP: directory.groups}.get(principal.kind)
    return names is None or principal.name in names


def _role_of_just(
    draft: Draft, prepared: PlatformIndex, scope: str, actions: frozenset[str], made: dict[frozenset[str], str]
) -> str:
    """A role that holds these actions at a place and no others; a new one, if there is none."""
    for role in prepared.platform.roles.values():
        held = prepared.roles.holdings(role.name)
        if not role.built_in and {a for a in held if prepared.applies(a, scope)} == actions:
            return role.name
    if actions not in made:
        made[actions] = f"held-{'-'.join(sorted(actions))}"[:100]
        said: dict[str, Value] = {"for": AS_HELD, "allows": few(sorted(actions))}
        roles.make(draft, prepared, made[actions], said)
    return made[actions]


def _declared(prepared: PlatformIndex, entry: Entry) -> list[list[Binding]]:
    """The bindings that a declared entry stands for, those of a line together."""
    found: dict[object, list[Binding]] = {}
    for b in prepared.bindings:
        said = (str(b.principal), b.role, b.scope, not b.allows, b.here_only, b.bundle)
        wanted = tuple(entry.get(key) for key in ("principal", "role", "scope", "deny", "here_only", "bundle"))
        if said == wanted and b.account == entry.get("account", "") and not b.built_in:
            if b.bundle or b.pattern:
                message = (
                    f"{b.source.line_address}: {b.role} at {b.scope} comes from a {'bundle' if b.bundle else 'pattern'}"
                )
                raise RefusedError(message, "write it out, or adopt this by hand; nothing was changed")
            found.setdefault(b.source, []).append(b)
    return list(found.values())[:1]


class _Lines:
    """What a platform holds, on its way into the files; lines are kept until all are known, and written together."""

    def __init__(self, draft: Draft, index: EstateIndex, prepared: PlatformIndex) -> None:
        self._draft, self._index, self._prepared = draft, index, prepared
        self.new: list[bindings.NewLine] = []

    def taken_over(self, one: HeldThere) -> list[str]:
        """Write one thing that the platform holds; in words what could not be written."""
        if one.part != "bindings":
            return _taken_over(self._draft, self._index, self._prepared, one)
        entry, platform = one.held or {}, self._prepared.platform
        known = {"role": platform.roles, "scope": platform.scopes}
        unknown = [f"{key} {entry.get(key)!r}" for key, some in known.items() if str(entry.get(key)) not in some]
        whom = _principal_in(entry.get("principal"))
        unknown += [str(entry.get("principal"))] if whom is None or not _is_known(self._index, whom) else []
        if unknown:
            said = f"{entry.get('role')} to {entry.get('principal')} at {entry.get('scope')}"
            return [f"{said}: {', '.join(unknown)} is not known to the estate"]
        self.new.append(bindings.NewLine(
            (str(entry["role"]),), (str(entry["principal"]),), str(entry.get("reason") or AS_HELD),
            (str(entry["scope"]),), entry.get("deny") is True, entry.get("here_only") is True, when_of(one.condition),
            str(one.condition.first_day or ""), str(one.condition.last_day or ""), str(entry.get("account") or ""),
        ))  # fmt: skip
        return []


def _taken_over(draft: Draft, index: EstateIndex, prepared: PlatformIndex, one: HeldThere) -> list[str]:
    entry = one.held
    assert entry is not None
    platform = prepared.platform
    if one.part == "publications":
        group, scope = str(entry.get("group")), str(entry.get("scope"))
        if group not in index.estate.directory.groups or scope not in platform.scopes:
            return [f"{group} published to {scope}: one of them is not known to the estate"]
        groups.publish(draft, prepared, group, [scope])
    elif one.part == "roles":
        _role(draft, prepared, one.name, entry)
    elif one.part == "local_groups" and one.name in platform.local_groups:
        return _members(draft, index, platform.name, platform.local_groups[one.name], _texts(entry.get("members")))
    else:
        return [f"{one.part}: {one.name} is the directory's, or no edit of the files"]
    return []


def _members(draft: Draft, index: EstateIndex, platform: str, group: LocalGroup, held: Sequence[str]) -> list[str]:
    """Write who is in a local group; in words what could not be written."""
    named = {text: _principal_in(text) for text in held}
    known = {text: whom for text, whom in named.items() if whom is not None and _is_known(index, whom)}
    unknown = [text for text in named if text not in known]
    left = [f"{text} in the local group {group.name}: the directory knows nobody like that" for text in unknown]
    if not known:
        return [*left, f"the local group {group.name} would hold nobody"]
    there = {str(one.member) for one in group.members}
    for text, whom in known.items():
        if text not in there:
            groups.put(draft, platform, group, whom, "", "")
    for gone in [one.member for one in group.members if str(one.member) not in known]:
        groups.take(draft, group, gone)
    return left


def _principal_in(value: object) -> Principal | None:
    """Whom a platform names, in the words of the files; None for what makes no sense."""
    try:
        return principal_of(value) if isinstance(value, str) else None
    except ValueError:
        return None


def _role(draft: Draft, prepared: PlatformIndex, name: str, entry: Entry) -> None:
    keys = (("allows", "allows"), ("excepts", "excepts"), ("builds on", "builds_on"))
    said: dict[str, Value] = {key: few(_texts(entry.get(on))) for key, on in keys if _texts(entry.get(on))}
    role = prepared.platform.roles.get(name)
    if role is None:
        roles.make(draft, prepared, name, {"for": AS_HELD, **said})
        return
    document, path = roles.open_role(draft, prepared, role)
    for key, on in keys:
        if _texts(entry.get(on)):
            document.put((*path, key), few(_texts(entry.get(on))), ("for", "kind", "owner", "built-in"))
        elif document.has((*path, key)):
            document.remove((*path, key))


def _texts(value: object) -> list[str]:
    return [str(item) for item in value] if isinstance(value, list) else []


def when_of(asked: Condition) -> dict[str, Value]:
    """A condition in the words of the files, without its days."""
    return {part.key: words[0] if part.single else few(words) for part, words in parts_of(asked)}
