"""Everyone who may do one action at one scope, and through what."""

from __future__ import annotations

from typing import Any

from justlane.engine.holding import Holders
from justlane.reports import chains
from justlane.reports.conditions import boxes_text, plain_boxes
from justlane.reports.interface import Look, Sheet
from justlane.reports.tables import table


def plain(result: Holders) -> dict[str, Any]:
    """The holders as JSON values."""
    return {
        "action": result.action,
        "scope": result.scope,
        "applicable": result.applicable,
        "holders": [
            {
                "user": holder.user,
                "conditions": plain_boxes(holder.conditions),
                "chains": [chains.plain(chain) for chain in holder.chains],
            }
            for holder in result.holders
        ],
    }


def sheet(result: Holders) -> Sheet:
    """One row for each person and way, the shortest way of a person first."""
    rows = [
        (
            holder.user,
            chains.way("", chain.memberships) if chain.memberships else str(chain.binding.principal),
            boxes_text(chain.circumstances or holder.conditions) or "always",
            chain.binding.role,
            chain.binding.scope,
            chain.binding.source.line_address,
        )
        for holder in result.holders
        for chain in holder.chains
    ]
    return Sheet(("user", "through", "when", "role", "given at", "line"), rows)


def text(result: Holders, look: Look) -> str:
    """The holders for a person."""
    count = len(result.holders)
    people = "nobody" if not count else "1 person" if count == 1 else f"{count} people"
    said = f"{people} may {result.action} at {result.scope}"
    if not result.applicable:
        return (
            f"{look.paint('nobody', 'head')}: {result.action} does not apply to that kind of scope as {result.scope}\n"
        )
    if not count:
        return said + "\n"
    return said + "\n\n" + table(_short(sheet(result)), look)


def _short(full: Sheet) -> Sheet:
    """The person's name only in front of their first way, and no column that always says the same."""
    when = full.columns.index("when")
    plain_yes = all(row[when] == "always" for row in full.rows)
    rows: list[list[object]] = []
    before: object = None
    for user, *rest in full.rows:
        rows.append(["" if user == before else user, *rest])
        before = user
    kept = [place for place in range(len(full.columns)) if not (plain_yes and place == when)]
    return Sheet(tuple(full.columns[p] for p in kept), [[row[p] for p in kept] for row in rows])
