"""Writing down what must hold: from `expect`, and from an answer that shall stay as it is."""

from __future__ import annotations

import click

from justlane.cli.common.consent import Editing, settle
from justlane.engine.changes.remarks import Remark
from justlane.engine.facts.index import EstateIndex
from justlane.engine.questions.expectations import Verdict, verify
from justlane.files.editing.expectations import expect as written
from justlane.files.in_place.scalars import Value
from justlane.model.scopes import platform_of


def save_expectation(ctx: click.Context, editing: Editing, said: dict[str, Value], user: str, scope: str) -> None:
    """Show an expectation, say whether it holds today, ask and save."""
    source = written(editing.draft, editing.index.estate.expectations, said, user, platform_of(scope))

    def about(after: EstateIndex) -> list[Remark]:
        new = (v for v in verify(after, editing.question.moment) if v.expectation.source.line_address == str(source))
        return [_told(verdict) for verdict in new]

    settle(ctx, editing, reason=str(said.get("because", "")), names=(user, scope), about=about)


def _told(verdict: Verdict) -> Remark:
    if verdict.holds:
        return Remark("holds", f"{verdict.sentence}: holds today")
    return Remark("fails", f"{verdict.sentence}: does not hold today; {verdict.evidence[0].fact}")
