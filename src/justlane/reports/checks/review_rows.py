"""A grant as an owner sees it in a review."""

from __future__ import annotations

from collections.abc import Sequence

from justlane.engine.surveys.review import ReviewedGrant, ReviewedHolder, Seat
from justlane.model.names import some_of
from justlane.model.visible import short
from justlane.reports.parts.conditions import condition_text

_LONGEST = 2000


def said_of(grant: ReviewedGrant, changed: str, findings: Sequence[str]) -> dict[str, str]:
    """Column -> what stands there."""
    binding = grant.binding
    role = grant.part.role if binding.allows else f"no {grant.part.role} (denied)"
    where = grant.part.scope + (" and nothing below" if binding.here_only else "")
    bundle = f"bundle {binding.bundle}: " + ", ".join(f"{b.role} at {b.scope}" for b in grant.part.bindings)
    said = {
        "role": role,
        "which is for": grant.role_purpose,
        "given to": str(grant.part.principal),
        "who are": grant.group_purpose,
        "people": str(grant.people),
        "who, and through what": _who(grant.holders, grant.people),
        "at": bundle if binding.bundle else where,
        "a place for": grant.place_purpose,
        "when": condition_text(binding.condition),
        "because": binding.reason,
        "last changed": changed or "unknown",
        "findings": "; ".join(findings),
        "line": binding.source.line_address,
    }
    return {name: short(" ".join(text.split()), _LONGEST) for name, text in said.items()}


def said_of_seat(seat: Seat, person: str, place_for: str, changed: str, findings: Sequence[str]) -> dict[str, str]:
    """The same of a person in a local group; `person` is their name."""
    held = seat.held
    said = {
        "role": f"member of the local group {seat.group.name}",
        "which is for": seat.group.purpose,
        "given to": str(held.member),
        "who are": person,
        "people": "1",
        "who, and through what": held.member.name,
        "at": seat.platform,
        "a place for": place_for,
        "when": f"until {held.last_day}" if held.last_day else "",
        "because": held.reason,
        "last changed": changed or "unknown",
        "findings": "; ".join(findings),
        "line": held.source.line_address,
    }
    return {name: short(" ".join(text.split()), _LONGEST) for name, text in said.items()}


def _who(holders: Sequence[ReviewedHolder], people: int) -> str:
    said = [f"{one.user} (through {one.through})" if one.through else one.user for one in holders]
    return some_of(said, len(said), people)
