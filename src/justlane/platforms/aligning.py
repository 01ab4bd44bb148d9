"""What has to change on a platform so that it holds what is declared, and changing it."""

from __future__ import annotations

import hashlib
from collections.abc import Iterator, Mapping, Sequence
from datetime import datetime

from msgspec import Struct

from justlane.engine.changes.comparison import Comparison
from justlane.engine.facts.graphs import walk
from justlane.engine.facts.index import EstateIndex, PlatformIndex
from justlane.model.bindings import Binding
from justlane.model.circumstances import Condition
from justlane.model.errors import JustLaneError, RefusedError
from justlane.model.names import counted
from justlane.model.people import PrincipalKind
from justlane.model.progress import Progress
from justlane.platforms.effect import difference
from justlane.platforms.interface import PARTS, Connector, Entry, Reading
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


class Effect(Struct, frozen=True):
    """What a plan gives to people and takes from them."""

    gained: int = 0
    """Number of (user, action, scope) cells that somebody gains."""
    lost: int = 0
    """Number of cells that somebody loses."""
    memberships: int = 0
    """Number of memberships, in groups and local groups, that are taken away."""
    accounts: int = 0
    """Number of accounts that are disabled or removed."""
    entries: int = 0
    """Number of roles, bindings and other entries that are removed."""

    @property
    def taken(self) -> int:
        """Number of all that is taken away, in whatever kind of step."""
        return self.lost + self.memberships + self.accounts + self.entries


class Plan(Struct, frozen=True):
    """All changes that a platform needs, in the order in which they are made."""

    platform: str
    revision: str
    steps: tuple[Step, ...]
    effect: Effect = Effect()


def declared_parts(index: EstateIndex, platform: str) -> dict[str, Part]:
    """What the platform ought to hold: all people, the groups that its bindings name with those inside
    them, its local groups, roles, publications, ceilings and bindings (but for those that are built in)."""
    prepared = index.platform(platform).platform
    return {
        "people": {login: {"enabled": user.enabled} for login, user in index.estate.directory.users.items()},
        "groups": _groups(index, platform),
        "local_groups": {
            group.name: {
                "members": sorted(str(m.member) for m in group.members),
                "until": {str(m.member): m.last_day.isoformat() for m in group.members if m.last_day},
            }
            for group in prepared.local_groups.values()
        },
        "roles": {
            role.name: {
                "allows": [p.text for p in role.allows],
                "excepts": [p.text for p in role.excepts],
                "builds_on": [p.text for p in role.builds_on],
            }
            for role in prepared.roles.values()
        },
        "publications": {
            identifier(p.group, p.scope): {"group": p.group, "scope": p.scope} for p in prepared.publications
        },
        "ceilings": {
            identifier(str(c.principal), *map(str, c.but_not), *c.patterns, str(c.condition)): {
                "principal": str(c.principal),
                "but_not": [str(left_out) for left_out in c.but_not],
                "patterns": list(c.patterns),
                "condition": plain_condition(c.condition),
                "reason": c.reason,
            }
            for c in prepared.ceilings
        },
        "bindings": _bindings(index.platform(platform)),
    }


def _groups(index: EstateIndex, platform: str) -> Part:
    """The directory's groups that the platform has to know, each with its direct members."""
    prepared = index.platform(platform)
    named = [*(b.principal for b in prepared.bindings), *prepared.platform.capped]
    named += [m.member for g in prepared.platform.local_groups.values() for m in g.members]
    known = [n for p in named if p.kind is PrincipalKind.GROUP for n in _with_nested(index, p.name)]
    known += [p.group for p in prepared.platform.publications]
    groups = index.estate.directory.groups
    return {name: {"members": sorted(str(m.member) for m in groups[name].members)} for name in dict.fromkeys(known)}


def _bindings(prepared: PlatformIndex) -> Part:
    """Bindings by identifier; where the order decides, each with its place in it."""
    found: Part = {}
    own = [b for b in prepared.bindings if not b.built_in]
    for place, b in enumerate(own):
        told = (*b.key, b.effect, str(b.here_only), str(b.condition), b.bundle)
        again = sum(name.startswith(identifier(*told)) for name in found)
        found[identifier(*told) + (f"-{again}" if again else "")] = plain_binding(b, place if prepared.ordered else 0)
    return found


def plain_binding(binding: Binding, place: int) -> Entry:
    """A binding as platforms keep it."""
    return {
        "principal": str(binding.principal),
        "role": binding.role,
        "scope": binding.scope,
        "reason": binding.reason,
        "deny": not binding.allows,
        "here_only": binding.here_only,
        "condition": plain_condition(binding.condition),
        "place": place,
        "bundle": binding.bundle,
    }


def plain_condition(condition: Condition) -> Entry:
    """A condition as platforms keep it."""
    return {
        "networks": list(condition.networks),
        "multi_factor": condition.multi_factor,
        "methods": list(condition.methods),
        "not_networks": list(condition.not_networks),
        "not_methods": list(condition.not_methods),
        "weekdays": list(condition.weekdays),
        "hours": [[h.start, h.end] for h in condition.hours],
        "time_zone": condition.time_zone,
        "first_day": condition.first_day.isoformat() if condition.first_day else "",
        "last_day": condition.last_day.isoformat() if condition.last_day else "",
    }


def identifier(*parts: str) -> str:
    """A name on the platform: the same thing has the same name every time."""
    return hashlib.blake2b("\n".join(parts).encode(), digest_size=8).hexdigest()


def _with_nested(index: EstateIndex, name: str) -> list[str]:
    groups = index.estate.directory.groups

    def nested(group: str) -> Iterator[tuple[str, None]]:
        return ((m.member.name, None) for m in groups[group].members if m.member.kind is PrincipalKind.GROUP)

    return list(walk(name, nested))


def plan(index: EstateIndex, platform: str, reading: Reading, moment: datetime) -> Plan:
    """Compare what is declared with a reading, and count what the changes give and take at a moment.

    Things are added in the order people, groups, roles, bindings and removed in the opposite order, so that nothing
    ever names what is not there.
    """
    steps = steps_between(reading, declared_parts(index, platform))
    if not steps:
        return Plan(platform, reading.revision, ())
    return counted_plan(platform, reading, steps, difference(index, platform, reading, moment))


def steps_between(held: Reading, wanted: Mapping[str, Part]) -> list[Step]:
    """What has to change so that a platform holds what is wanted."""
    steps: list[Step] = []
    for part in PARTS:
        there = held.part(part)
        for name, entry in wanted[part].items():
            if there.get(name) != entry:
                steps.append(Step(part, name, there.get(name), entry))
    for part in reversed(PARTS):
        there = held.part(part)
        steps += [Step(part, name, entry, None) for name, entry in there.items() if name not in wanted[part]]
    return steps


def counted_plan(platform: str, reading: Reading, steps: Sequence[Step], changes: Comparison) -> Plan:
    """A plan with all that it takes away."""
    effect = Effect(
        changes.gained,
        changes.lost,
        sum(map(_memberships_taken, steps)),
        sum(map(_is_account_taken, steps)),
        sum(step.after is None and step.part not in ("people", "groups", "local_groups") for step in steps),
    )
    return Plan(platform, reading.revision, tuple(steps), effect)


def _memberships_taken(step: Step) -> int:
    if step.part not in ("groups", "local_groups") or step.before is None:
        return 0
    before, after = step.before.get("members"), (step.after or {}).get("members")
    kept = after if isinstance(after, list) else []
    return sum(member not in kept for member in before) if isinstance(before, list) else 0


def _is_account_taken(step: Step) -> bool:
    enabled = [entry is not None and entry.get("enabled") is True for entry in (step.before, step.after)]
    return step.part == "people" and (step.after is None or enabled == [True, False])


def refuse_too_many_removals(planned: Plan, most: int) -> None:
    """RefusedError if a plan takes away more than a limit allows: cells, memberships, accounts, entries."""
    effect = planned.effect
    if effect.taken > most:
        lost, memberships = counted(effect.lost, "cell"), counted(effect.memberships, "membership")
        accounts, entries = counted(effect.accounts, "account"), counted(effect.entries, "entry", "entries")
        raise RefusedError(
            f"this would take {counted(effect.taken, 'thing')} away on {planned.platform} "
            f"({lost}, {memberships}, {accounts}, {entries}), the limit is {most:,}",
            f"look at it with --dry-run; if it is right, use --most-removals {effect.taken}",
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
