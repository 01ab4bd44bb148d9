"""What every report offers, the table of formats, and the table of reports by kind of result."""

from __future__ import annotations

from collections.abc import Callable
from importlib import import_module
from typing import Any, Protocol, cast

from justlane.model.visible import json_visible
from justlane.reports.text.look import Look, Sheet

Plain = dict[str, Any] | list[Any]


class Presenter(Protocol):
    """A module that presents one kind of result."""

    def plain(self, result: Any) -> Plain:
        """The result as JSON values; field names are stable."""

    def sheet(self, result: Any) -> Sheet:
        """The result as a table."""

    def text(self, result: Any, look: Look) -> str:
        """The result for a person at a terminal."""


PRESENTERS = {
    "Reply": "justlane.reports.answers.answer",
    "Administrators": "justlane.reports.surveys.administrators",
    "Assignments": "justlane.reports.answers.assignments",
    "Beside": "justlane.reports.surveys.roles",
    "Chart": "justlane.reports.surveys.charts",
    "Checked": "justlane.reports.checks.checked",
    "Comparison": "justlane.reports.changes.comparison",
    "Conformance": "justlane.reports.platforms.conformance",
    "Connectors": "justlane.reports.platforms.connectors",
    "Drifts": "justlane.reports.platforms.drift",
    "Edits": "justlane.reports.changes.journal",
    "Exported": "justlane.reports.surveys.exported",
    "Fitting": "justlane.reports.surveys.roles",
    "ForUser": "justlane.reports.answers.for_user",
    "Found": "justlane.reports.people.found_people",
    "Glance": "justlane.reports.surveys.glance",
    "Grid": "justlane.reports.surveys.grid",
    "GroupSizes": "justlane.reports.people.group_sizes",
    "Holders": "justlane.reports.answers.holders",
    "Offers": "justlane.reports.answers.offers",
    "OnePlace": "justlane.reports.answers.one_place",
    "OneRole": "justlane.reports.answers.one_role",
    "Overview": "justlane.reports.people.overview",
    "Permissions": "justlane.reports.platforms.permissions",
    "PeopleChanges": "justlane.reports.people.people_changes",
    "Plan": "justlane.reports.platforms.plan",
    "Portrait": "justlane.reports.people.one_person_or_group",
    "Proposal": "justlane.reports.changes.proposal",
    "ProbeResult": "justlane.reports.platforms.probe",
    "Pulled": "justlane.reports.people.pulled",
    "Reach": "justlane.reports.answers.reach",
    "ReviewStatus": "justlane.reports.checks.review_status",
    "Roles": "justlane.reports.surveys.roles",
    "Rules": "justlane.reports.checks.rules",
    "ScopeTree": "justlane.reports.surveys.scope_tree",
    "Sight": "justlane.reports.answers.sight",
    "SideBySide": "justlane.reports.answers.two_people",
    "Tallies": "justlane.reports.surveys.tally",
    "Regrouped": "justlane.reports.surveys.regrouped",
    "AccountsThere": "justlane.reports.platforms.accounts",
    "Survey": "justlane.reports.platforms.survey",
    "Wholeness": "justlane.reports.changes.journal",
    "Verdicts": "justlane.reports.checks.verdicts",
}
"""Kind of result -> the module that presents it."""


def presenter(kind: str) -> Presenter:
    """The module that presents one kind of result."""
    return cast(Presenter, import_module(PRESENTERS[kind]))


def _text(kind: str, result: Any, look: Look) -> str:
    return presenter(kind).text(result, look)


def _json(kind: str, result: Any, look: Look) -> str:
    import json

    return json_visible(json.dumps(presenter(kind).plain(result), indent=2, ensure_ascii=False)) + "\n"


def _csv(kind: str, result: Any, look: Look) -> str:
    return presenter(kind).sheet(result).as_csv()


def _junit(kind: str, result: Any, look: Look) -> str:
    from justlane.reports.checks import junit

    return junit.DOCUMENTS[kind](result)


def _sarif(kind: str, result: Any, look: Look) -> str:
    import json

    from justlane.reports.checks import sarif

    return json_visible(json.dumps(sarif.document(result), indent=2, ensure_ascii=False)) + "\n"


FORMATS: dict[str, Callable[[str, Any, Look], str]] = {
    "text": _text,
    "json": _json,
    "csv": _csv,
    "junit": _junit,
    "sarif": _sarif,
}
"""Name of a format -> what writes it."""


def present(kind: str, result: Any, form: str, look: Look) -> str:
    """A result in one of the formats, ending in a line end."""
    return FORMATS[form](kind, result, look)
