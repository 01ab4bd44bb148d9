"""Who administers each platform, fully or in part, against how many may."""

from __future__ import annotations

from collections.abc import Iterator, Sequence

from justlane.engine.questions.administrators import Administrators
from justlane.model.names import counted
from justlane.reports.outputs.edits import Administrators as AdministratorsJson
from justlane.reports.text.lines import Line, line, render
from justlane.reports.text.look import Look, Sheet

_MOST_NAMED = 30


def plain(result: Sequence[Administrators]) -> list[AdministratorsJson]:
    """The administrators as JSON values."""
    return [
        {
            "platform": one.platform,
            "actions": list(one.actions),
            "full": list(one.full),
            "limited": list(one.limited),
            "at_most": one.at_most,
            "too_many": one.too_many,
        }
        for one in result
    ]


def sheet(result: Sequence[Administrators]) -> Sheet:
    """One row for each administrator."""
    rows = [
        (one.platform, login, how)
        for one in result
        for how, logins in (("full", one.full), ("limited", one.limited))
        for login in logins
    ]
    return Sheet(("platform", "user", "administration"), rows)


def text(result: Sequence[Administrators], look: Look) -> str:
    """The administrators for a person."""
    return render(_lines(result), look)


def _lines(result: Sequence[Administrators]) -> Iterator[Line]:
    if not result:
        yield line("no platform says what its administration is: see `administration` among the estate's files")
    for one in result:
        most = f", at most {one.at_most} may" if one.at_most is not None else ""
        told = f"  {counted(one.people, 'person', 'people')} fully{most}, {len(one.limited)} in part"
        style = "no" if one.too_many or not one.full else "dim"
        yield line((one.platform, "head"), (told, style), f": {', '.join(one.actions)}", hanging="  ")
        for how, logins in (("full     ", one.full), ("limited  ", one.limited)):
            if logins:
                more = f" and {len(logins) - _MOST_NAMED} more" if len(logins) > _MOST_NAMED else ""
                yield line(f"  {how}", (", ".join(logins[:_MOST_NAMED]) + more, "name"), hanging=" " * 11)
