"""SARIF 2.1.0 (OASIS, errata 01), which code hosts and editors read: findings with their rules, places and fixes."""

from __future__ import annotations

import hashlib
from typing import Any
from urllib.parse import quote

from justlane import __version__
from justlane.model.findings import Severity
from justlane.model.rules import Accepted
from justlane.reports.checks.checked import Checked
from justlane.reports.checks.rules import page, says
from justlane.rules.inspection import Flaw
from justlane.rules.interface import RULES, rule

_SCHEMA = "https://docs.oasis-open.org/sarif/sarif/v2.1.0/errata01/os/schemas/sarif-schema-2.1.0.json"
_LEVELS = {Severity.ERROR: "error", Severity.WARNING: "warning", Severity.NOTE: "note"}


def document(result: Checked) -> dict[str, Any]:
    """A log with one run."""
    flaws = [*((flaw, None) for flaw in result.flaws), *result.accepted]
    names = list(dict.fromkeys([*result.asked, *(flaw.rule for flaw, _ in flaws)]))
    number = {name: n for n, name in enumerate(names)}
    run = {
        "tool": {
            "driver": {
                "name": "justlane",
                "version": __version__,
                "rules": [_rule(name) for name in names],
            }
        },
        "columnKind": "unicodeCodePoints",
        "invocations": [{"executionSuccessful": result.complete}],
        "results": [_result(result, flaw, accepted, number[flaw.rule]) for flaw, accepted in flaws],
    }
    return {"$schema": _SCHEMA, "version": "2.1.0", "runs": [run]}


def _rule(name: str) -> dict[str, Any]:
    if name not in RULES:
        return {"id": name}
    module = rule(name)
    written = page(name)
    return {
        "id": name,
        "shortDescription": {"text": says(module)},
        "help": {"text": (module.__doc__ or "").strip(), "markdown": written},
        "defaultConfiguration": {
            "enabled": module.SEVERITY is not None,
            "level": _LEVELS[module.SEVERITY or Severity.WARNING],
        },
    }


def _result(result: Checked, flaw: Flaw, accepted: Accepted | None, index: int) -> dict[str, Any]:
    said = ". ".join(part for part in (flaw.message, flaw.consequence, flaw.hint) if part)
    found: dict[str, Any] = {
        "ruleId": flaw.rule,
        "ruleIndex": index,
        "level": _LEVELS[flaw.severity],
        "message": {"text": said},
        "locations": [{"physicalLocation": _place(result, flaw)}],
        "partialFingerprints": {"justlaneFinding/v1": _fingerprint(flaw)},
        "properties": {"about": list(flaw.about), "consequence": flaw.consequence, "fixable": bool(flaw.fix)},
    }
    if accepted:
        why = f"until {accepted.last_day}: {accepted.reason}"
        found["suppressions"] = [{"kind": "external", "status": "accepted", "justification": why}]
    return found


def _place(result: Checked, flaw: Flaw) -> dict[str, Any]:
    source = flaw.source
    place: dict[str, Any] = {"artifactLocation": {"uri": quote(source.file)}}
    if source.line:
        region: dict[str, Any] = {"startLine": source.line}
        if source.column:
            region["startColumn"] = source.column
        shown = result.lines.get((source.file, source.line))
        if shown:
            region["snippet"] = {"text": shown}
        place["region"] = region
    return place


def _fingerprint(flaw: Flaw) -> str:
    """The same for the same finding, wherever its line has moved to."""
    said = "\0".join([flaw.rule, flaw.source.file, *flaw.about])
    return hashlib.sha256(said.encode("utf-8", "surrogatepass")).hexdigest()[:32]
