"""Command -> the shape of what `--format json` writes, and its JSON Schema."""

from __future__ import annotations

from typing import Any

import msgspec

from justlane.reports.outputs.answers import Ask, ForUser
from justlane.reports.outputs.changes import Checked, Comparison, Exported, Rule, Tally, TwoPeople, Verdicts
from justlane.reports.outputs.edits import (
    Administrators,
    Edits,
    Fitting,
    Offers,
    Proposal,
    ReviewStanding,
    Roles,
    RolesBeside,
    ScopeTree,
    Wholeness,
)
from justlane.reports.outputs.people import Found, GroupSize, OneGroup, OneUser, Overview, PeopleChanges, Pulled
from justlane.reports.outputs.platforms import (
    Accounts,
    Conformance,
    ConnectorKind,
    Drift,
    Permissions,
    Plan,
    Probe,
    Survey,
)
from justlane.reports.outputs.regrouped import Regrouped
from justlane.reports.outputs.views import (
    AdministratorsChart,
    Assignments,
    ChangesChart,
    FlowChart,
    Glance,
    Grid,
    Holders,
    OnePlace,
    OneRole,
    Reach,
    RolesChart,
    SensitiveChart,
    Sight,
)

OUTPUTS: dict[str, Any] = {
    "check": Checked,
    "check --rules": list[Rule],
    "people pull": Pulled,
    "people show": Overview,
    "people show USER": OneUser,
    "people show GROUP": OneGroup,
    "people groups": list[GroupSize],
    "people find": Found,
    "people changes": PeopleChanges,
    "ask": Ask,
    "ask --for-user": ForUser,
    "reach": Reach,
    "reach --see": Sight,
    "holders": Holders,
    "holders SCOPE": OnePlace,
    "given": Assignments,
    "role show": OneRole,
    "role list": Roles,
    "role compare": RolesBeside,
    "role fit": Fitting,
    "role administrators": list[Administrators],
    "scope tree": ScopeTree,
    "grid": Grid,
    "glance": Glance,
    "chart administrators": AdministratorsChart,
    "chart sensitive": SensitiveChart,
    "chart roles": RolesChart,
    "chart flow": FlowChart,
    "chart changes": ChangesChart,
    "suggest": Offers,
    "give": Proposal,
    "review status": list[ReviewStanding],
    "journal show": Edits,
    "journal check": Wholeness,
    "compare": Comparison,
    "compare --person": TwoPeople,
    "tally": list[Tally],
    "regroup": Regrouped,
    "export": list[Exported],
    "verify": Verdicts,
    "align": Plan,
    "survey": Survey,
    "accounts": Accounts,
    "drift": list[Drift],
    "probe": Probe,
    "connector list": list[ConnectorKind],
    "connector test": Conformance,
    "trust list": Permissions,
}
"""Command -> the shape of what it writes."""

_DIALECT = "https://json-schema.org/draft/2020-12/schema"


def schema_of(command: str) -> dict[str, Any]:
    """The JSON Schema (draft 2020-12) of what a command writes."""
    (main,), parts = msgspec.json.schema_components([OUTPUTS[command]], ref_template="#/$defs/{name}")
    for part in parts.values():
        part["additionalProperties"] = False
    return {"$schema": _DIALECT, "title": f"justlane {command}", **main, "$defs": parts}


def schemas() -> dict[str, dict[str, Any]]:
    """File name -> the schema of what a command writes: `people-show-user.schema.json`."""
    return {f"{_file_name(command)}.schema.json": schema_of(command) for command in OUTPUTS}


def _file_name(command: str) -> str:
    return command.lower().replace("--", "").replace(" ", "-")
