"""What has to change on a platform so that it holds what is declared, and changing it."""

from __future__ import annotations

import hashlib
from collections.abc import Iterator

from msgspec import Struct

from justlane.engine.graphs import walk
from justlane.engine.index import EstateIndex
from justlane.model.errors import JustLaneError, RefusedError
from justlane.model.people import PrincipalKind
from justlane.platforms.interface import PARTS, Connector, Entry, Progress, Reading
from justlane.platforms.journal import Journal

Part = dict[str, Entry]


class Step(Struct, frozen=True):
    """One change: something added (no `before`), changed, or removed (no `after`)."""

    part: str
    name: str
    """The platform's identifier."""
    before: Entry | None
    after: Entry | None

    @property
    def verb(self) -> str:
        """`add`, `change` or `remove`."""
        return "add" if self.before is None else "remove" if self.after is None else "change"


class Plan(Struct, frozen=True):
    """All changes that a platform needs, in the order in which they are made."""

    platform: str
    revision: str
    steps: tuple[Step, ...]

    @property
    def removals(self) -> int:
        """Number of steps that take something away."""
        return sum(step.after is None for step in self.steps)


def declared_parts(index: EstateIndex, platform: str) -> dict[str, Part]:
    """What the platform ought to hold: all people, the groups that its bindings name with those inside
    them, its roles and its bindings."""
    prepared = index.platform(platform)
    directory = index.estate.directory
    groups: Part = {}
    for binding in prepared.bindings:
        if binding.principal.kind is PrincipalKind.GROUP:
            for name in _with_nested(index, binding.principal.name):
                members = sorted(str(m.member) for m in directory.groups[name].members)
                groups[name] = {"members": members}
    return {
        "people": {login: {"enabled": user.enabled} for login, user in directory.users.items()},
        "groups": groups,
        "roles": {
            role.name: {
                "allows": [p.text for p in role.allows],
                "excepts": [p.text for p in role.excepts],
                "builds_on": [p.text for p in role.builds_on],
            }
            for role in prepared.platform.roles.values()
        },
        "bindings": {
            identifier(*b.key): {"principal": b.key[0], "role": b.role, "scope": b.scope, "reason": b.reason}
            for b in prepared.bindings
        },
    }


def identifier(principal: str, role: str, scope: str) -> str:
    """A binding's name on the platform: the same grant has the same name every time."""
    return hashlib.blake2b("\n".join((principal, role, scope)).encode(), digest_size=8).hexdigest()


def _with_nested(index: EstateIndex, name: str) -> list[str]:
    groups = index.estate.directory.groups

    def nested(group: str) -> Iterator[tuple[str, None]]:
        return ((m.member.name, None) for m in groups[group].members if m.member.kind is PrincipalKind.GROUP)

    return list(walk(name, nested))


def plan(index: EstateIndex, platform: str, reading: Reading) -> Plan:
    """Compare what is declared with a reading.

    Things are added in the order people, groups, roles, bindings and removed in the opposite order, so that nothing
    ever names what is not there.
    """
    declared = declared_parts(index, platform)
    steps: list[Step] = []
    for part in PARTS:
        held = reading.part(part)
        for name, entry in declared[part].items():
            if held.get(name) != entry:
                steps.append(Step(part, name, held.get(name), entry))
    for part in reversed(PARTS):
        held = reading.part(part)
        steps += [Step(part, name, entry, None) for name, entry in held.items() if name not in declared[part]]
    return Plan(platform, reading.revision, tuple(steps))


def refuse_too_many_removals(planned: Plan, most: int) -> None:
    """RefusedError if a plan takes away more than a limit allows."""
    if planned.removals > most:
        raise RefusedError(
            f"this would remove {planned.removals} things from {planned.platform}, the limit is {most}",
            f"look at it with --dry-run; if it is right, use --most-removals {planned.removals}",
        )


def carry_out(planned: Plan, connector: Connector, journal: Journal, why: str, progress: Progress) -> None:
    """Make the changes one by one, each written to the journal before it is sent.

    Stops at the first failure, or when interrupted: what is done is done and noted, what is left is found again by
    the next plan.
    """
    total = len(planned.steps)
    revision = planned.revision
    journal.write("started", of=total, why=why)
    progress.start(total, planned.platform)
    try:
        for number, step in enumerate(planned.steps, 1):
            progress.step(f"{step.verb} {step.part}")
            part, name = step.part, step.name
            journal.write("sending", number, total, part=part, name=name, before=step.before, after=step.after)
            if step.after is None:
                revision = connector.drop(step.part, step.name, revision)
            else:
                revision = connector.put(step.part, step.name, step.after, revision)
            journal.write("done", number, total, part=part, name=name)
    except (JustLaneError, KeyboardInterrupt):
        journal.write("stopped", of=total)
        raise
    finally:
        progress.stop()
    journal.write("finished", of=total)
