"""Drawn estates as text, an entry a line, and edits of that text as an author would make them."""

from __future__ import annotations

import json
from collections.abc import Mapping
from typing import Any

from msgspec.structs import replace

from justlane.engine.facts.roles import RoleIndex
from justlane.model.bindings import Binding
from justlane.model.circumstances import WEEKDAYS, Condition
from justlane.model.edits import AllowInRole, Edit, Enable, Give, Join, KeepInRole, Leave, LeaveOutOfRole, Publish, Withdraw
from justlane.model.estate import Estate, Platform
from justlane.model.patterns import matching
from justlane.model.people import LocalMember, PrincipalKind
from justlane.model.roles import Role

Files = Mapping[str, str]
LOCKED = "pwdAccountLockedTime: 000001010000Z"


def condition(asked: Condition) -> dict[str, Any]:
    """The keys of a line that say when it counts."""
    when: dict[str, Any] = {
        "from network": list(asked.networks),
        "not from network": list(asked.not_networks),
        "signed in by": list(asked.methods),
        "not signed in by": list(asked.not_methods),
        "days": [WEEKDAYS[day] for day in asked.weekdays],
        "between": [str(span) for span in asked.hours],
        "time zone": asked.time_zone,
    }
    for key, side in (("multi-factor", asked.multi_factor), ("on a managed device", asked.managed_device)):
        if side is not None:
            when[key] = "yes" if side else "no"
    if asked.signed_in_within:
        when["signed in within"] = f"{asked.signed_in_within} minutes"
    dates = {"from": asked.first_day, "until": asked.last_day}
    kept = {key: value for key, value in when.items() if value}
    return ({"when": kept} if kept else {}) | {key: str(day) for key, day in dates.items() if day}


def member(m: LocalMember) -> str | dict[str, str]:
    return {"member": str(m.member), "because": "x", "until": str(m.last_day)} if m.last_day else str(m.member)


def binding_line(b: Binding) -> str:
    said = {"give" if b.allows else "deny": f"bundle {b.bundle}" if b.bundle else b.role, "to": str(b.principal)}
    said |= {"at": b.scope} if not b.bundle else {}
    said |= {"here only": "yes"} if b.here_only else {}
    said |= {"built-in": "yes"} if b.built_in else {}
    return f"  - {json.dumps({**said, **condition(b.condition), 'because': 'of the test'})}"


def _scopes(platform: Platform, parent: str) -> dict[str, Any]:
    found = {}
    for scope in platform.scopes.values():
        if scope.parent == parent:
            shape = {"is": scope.kind, "for": "test", "holds": _scopes(platform, scope.address), "gathers": [g.address for g in scope.gathers]}
            found[scope.address.rpartition("/")[2]] = {key: value for key, value in shape.items() if value}
    return found


def made_sound(estate: Estate) -> Estate:
    """The estate without what no author would be let write: kinds that do not exist, exceptions of nothing or by half, ends
    before the beginning."""
    platform = estate.platforms["p"]
    kinds = {scope.kind for scope in platform.scopes.values()}
    asked = {platform.habits.sign_in, platform.habits.on_the_way}
    actions = {
        a.name: replace(a, applies_to=() if a.name in asked or not kinds & {*a.applies_to} else tuple(k for k in a.applies_to if k in kinds))
        for a in platform.actions.values()
    }
    roles: dict[str, Role] = {}
    for role in platform.roles.values():
        bare = replace(role, excepts=())
        held = RoleIndex({**roles, role.name: bare}, actions).holdings(role.name)
        left = {a for p in role.excepts for a in matching(p.text, held)}
        half = any(steps and steps[-1].kind == "implies" for a, steps in held.items() if a in left)
        implied = any({i.text for i in actions[a].implies} & left for a in held if a not in left)
        roles[role.name] = bare if not left or half or implied else role
    bindings = tuple(replace(b, condition=_sound(b.condition)) for b in estate.bindings)
    ceilings = tuple(replace(c, condition=replace(c.condition, first_day=None, last_day=None)) for c in platform.ceilings)
    changed = replace(platform, actions=actions, roles=roles, ceilings=ceilings)
    return replace(estate, platforms={"p": changed}, bindings=bindings)


def _sound(asked: Condition) -> Condition:
    """The same, not ended before it began."""
    first, last = asked.first_day, asked.last_day
    return replace(asked, last_day=max(first, last)) if first and last else asked


def written(estate: Estate) -> dict[str, str]:
    """The files of a drawn estate."""
    platform = estate.platforms["p"]
    habits = platform.habits
    said = {
        "decides": habits.decides,
        "unbound": f"open with {habits.open_role}" if habits.open_role else "closed",
        "roles held": habits.roles_held,
        "publication": "needed" if habits.publication else "not needed",
    }
    said |= {"sign-in": habits.sign_in} if habits.sign_in else {}
    said |= {"on the way": habits.on_the_way} if habits.on_the_way else {}
    lines = ["platform: p", "for: test", f"habits: {json.dumps(said)}", "actions:"]
    for action in platform.actions.values():
        lines.append(f"  {action.name}: {json.dumps({'means': 'x', 'implies': [i.text for i in action.implies], 'applies to': action.applies_to})}")
    lines += [f"scopes: {json.dumps(_scopes(platform, 'p'))}", "roles:"]
    for role in platform.roles.values():
        shape = {key: [p.text for p in some] for key, some in (("allows", role.allows), ("excepts", role.excepts), ("builds on", role.builds_on))}
        lines.append(f"  {role.name}: {json.dumps({'for': 'x', **shape})}")
    lines.append("local groups:")
    lines += [f"  {g.name}: {json.dumps({'for': 'x', 'holds': [member(m) for m in g.members]})}" for g in platform.local_groups.values()]
    lines.append("published:" if platform.publications else "")
    lines += [f"  - {json.dumps({'group': p.group, 'to': p.scope})}" for p in platform.publications]
    lines.append("ceilings:" if platform.ceilings else "")
    for c in platform.ceilings:
        capped: dict[str, object] = {
            "never": c.patterns,
            "to": [str(c.principal)],
            "but not to": [str(p) for p in c.but_not],
            **condition(c.condition),
            "because": "x",
        }
        lines.append(f"  - {json.dumps(capped)}")
    bundles: dict[str, list[str]] = {}
    given: list[str] = ["bindings:"]
    for place, b in enumerate(estate.bindings):
        before = estate.bindings[place - 1] if place else None
        if (
            not b.bundle
            or before is None
            or (before.bundle, before.principal, before.effect, before.condition) != (b.bundle, b.principal, b.effect, b.condition)
        ):
            given.append(binding_line(b))
            bundles.setdefault(b.bundle, []).clear()
        bundles[b.bundle].append(f"{b.role} at {b.scope}")
    given += ["  []"] if len(given) == 1 else []
    held = {name: {"for": "x", "holds": pairs} for name, pairs in bundles.items() if name}
    lines += [f"bundles: {json.dumps(held)}", *given]
    root = "estate: e\nfor: test\ntime zone: Europe/Amsterdam\ndirectories: {d: {ldif: people.ldif}}\ninclude: p.yaml\n"
    return {"estate.yaml": root, "p.yaml": "\n".join(lines) + "\n", "people.ldif": _people(estate)}


def _dn(kind: PrincipalKind, name: str) -> str:
    return f"uid={name},dc=x" if kind is PrincipalKind.USER else f"cn={name},dc=x"


def _people(estate: Estate) -> str:
    entries = ["version: 1"]
    for user in estate.directory.users.values():
        entries.append(
            f"dn: uid={user.login},dc=x\nobjectClass: inetOrgPerson\nuid: {user.login}\ncn: {user.login}" + ("" if user.enabled else f"\n{LOCKED}")
        )
    for group in estate.directory.groups.values():
        members = "".join(f"\nmember: {_dn(m.member.kind, m.member.name)}" for m in group.members)
        entries.append(f"dn: cn={group.name},dc=x\nobjectClass: groupOfNames\ncn: {group.name}\ndescription: x{members}")
    return "\n\n".join(entries) + "\n"


def carried_out(files: Files, edit: Edit) -> dict[str, str]:
    """The files after an edit: lines put in, taken out or changed."""
    lines = files["p.yaml"].splitlines()
    match edit:
        case Give(bindings=given):
            lines.append(binding_line(given[0]))
        case Withdraw(bindings=given):
            del lines[given[0].source.line - 1]
        case AllowInRole(role=role, action=action):
            _in_entry(lines, role, lambda said: said["allows"].append(action))
        case KeepInRole(role=role, pattern=pattern):
            _in_entry(lines, role, lambda said: said["excepts"].remove(pattern.text))
        case Publish(group=group, scope=scope):
            line = f"  - {json.dumps({'group': group, 'to': scope})}"
            lines = [*lines, "published:", line] if "published:" not in lines else _after(lines, "published:", line)
        case LeaveOutOfRole(role=role, action=action):
            _in_entry(lines, role, lambda said: said["excepts"].append(action))
        case Leave(group=group, login=login) if group.kind is PrincipalKind.LOCAL_GROUP:
            _in_entry(
                lines,
                group.name,
                lambda said: said.update(holds=[m for m in said["holds"] if f"user {login}" not in (m, m["member"] if isinstance(m, dict) else m)]),
            )
        case Leave(group=group, login=login):
            head, entry, rest = files["people.ldif"].partition(f"cn: {group.name}\n")
            own, gap, others = rest.partition("\n\n")
            own = "\n".join(line for line in own.rstrip("\n").split("\n") if line != f"member: uid={login},dc=x")
            return {**files, "people.ldif": head + entry + own + (gap + others if gap else "\n")}
        case Join(group=group, login=login) if group.kind is PrincipalKind.LOCAL_GROUP:
            _in_entry(lines, group.name, lambda said: said["holds"].append(f"user {login}"))
        case Join(group=group, login=login):
            entry = f"cn: {group.name}\ndescription: x\n"
            return {**files, "people.ldif": files["people.ldif"].replace(entry, f"{entry}member: uid={login},dc=x\n")}
        case Enable(login=login):
            entry = f"\ncn: {login}\n"
            return {**files, "people.ldif": files["people.ldif"].replace(f"{entry}{LOCKED}\n", entry)}
    return {**files, "p.yaml": "\n".join(lines) + "\n"}


def _after(lines: list[str], head: str, line: str) -> list[str]:
    at = lines.index(head) + 1
    return [*lines[:at], line, *lines[at:]]


def _in_entry(lines: list[str], name: str, change: Any) -> None:
    at = next(n for n, line in enumerate(lines) if line.startswith(f"  {name}: "))
    said = json.loads(lines[at].partition(": ")[2])
    change(said)
    lines[at] = f"  {name}: {json.dumps(said)}"
