"""A chain, from a person to a place, as steps that read aloud."""

from __future__ import annotations

from collections.abc import Iterable
from typing import Literal

from msgspec import Struct
from msgspec.structs import replace

from justlane.engine.decision.explanation import Chain
from justlane.engine.facts.coverage import CoverStep
from justlane.engine.facts.membership import MemberStep
from justlane.engine.facts.roles import RoleStep
from justlane.engine.questions.reach import Grant
from justlane.model.bindings import Binding
from justlane.model.findings import Source
from justlane.model.people import PrincipalKind
from justlane.reports.outputs.answers import Binding as BindingJson
from justlane.reports.outputs.answers import Chain as ChainJson
from justlane.reports.outputs.answers import Line as LineJson
from justlane.reports.outputs.views import Grant as GrantJson
from justlane.reports.parts.conditions import condition_text, plain_boxes
from justlane.reports.text.lines import Span


class ChainStep(Struct, frozen=True):
    """One step: what it says, in styled pieces, and the line that says so."""

    kind: Literal["member", "given", "published", "builds on", "allows", "implies", "covers"]
    spans: tuple[Span, ...]
    source: Source

    @property
    def sentence(self) -> str:
        """What the step says."""
        return "".join(text for text, _ in self.spans)


def steps(chain: Chain) -> list[ChainStep]:
    """The steps of a chain, in the order in which a person would tell them."""
    found: list[ChainStep] = []
    for place, membership in enumerate(chain.memberships):
        verb = "which is in " if place else "is in "
        found.append(ChainStep("member", ((verb, ""), (str(membership.group), "name")), membership.source))
    binding = chain.binding
    verb = "which is given " if chain.memberships else "is given "
    if binding.principal.kind in (PrincipalKind.AUTHENTICATED, PrincipalKind.ANONYMOUS):
        verb = f"is {binding.principal}, to whom is given "
    given: tuple[Span, ...] = ((verb, ""), (binding.role, "name"), (" at ", ""), (binding.scope, "name"))
    if binding.pattern:
        given = (*given, (f" (one of {binding.pattern})", "dim"))
    if chain.account:
        given = (*given, (", as ", ""), (chain.account, "name"))
    found.append(ChainStep("given", given, binding.source))
    if chain.publication:
        verb = " was published to "
        published = ((str(binding.principal), "name"), (verb, ""), (chain.publication.scope, "name"))
        found.append(ChainStep("published", published, chain.publication.source))
    found += role_steps(chain.role)
    for cover in _merged(chain.coverage):
        verb = " gathers " if cover.gathers else " contains "
        kind = f" ({cover.kind})" if cover.kind else ""
        covers = ((cover.outer, "name"), (verb, ""), (cover.inner, "name"), (kind, "dim"))
        found.append(ChainStep("covers", covers, cover.source))
    return found


def role_steps(lines: Iterable[RoleStep]) -> list[ChainStep]:
    """How a role comes by an action."""
    return [
        ChainStep(line.kind.value, ((line.subject, "name"), (f" {line.kind} ", ""), (line.object, "name")), line.source)
        for line in lines
    ]


def _merged(coverage: tuple[CoverStep, ...]) -> list[CoverStep]:
    """Containment in containment is containment: one step for each run of them."""
    merged: list[CoverStep] = []
    for step in coverage:
        if merged and not step.gathers and not merged[-1].gathers:
            merged[-1] = CoverStep(merged[-1].outer, step.inner, False, step.source)
        else:
            merged.append(step)
    return merged


class References:
    """Bindings that JSON values name by their place in a list, where each stands once."""

    def __init__(self) -> None:
        self._places: dict[int, int] = {}
        self._all: list[Binding] = []

    def to(self, binding: Binding) -> int:
        """The place of a binding in the list."""
        if id(binding) not in self._places:
            self._places[id(binding)] = len(self._all)
            self._all.append(binding)
        return self._places[id(binding)]

    @property
    def plain(self) -> list[BindingJson]:
        """The list."""
        return [plain_binding(binding) for binding in self._all]


def plain(chain: Chain, bindings: References) -> ChainJson:
    """A chain as JSON values."""
    return {
        "binding": bindings.to(chain.binding),
        "conditions": plain_boxes(chain.circumstances),
        "account": chain.account or None,
        "steps": [{"kind": s.kind, "sentence": s.sentence, **plain_source(s.source)} for s in steps(chain)],
    }


def plain_grant(grant: Grant, bindings: References) -> GrantJson:
    """A binding through which somebody has something, the groups in between, and when it is the one that gives it."""
    return {
        "through": [str(step.group) for step in grant.memberships],
        "conditions": plain_boxes(grant.conditions),
        "binding": bindings.to(grant.binding),
    }


def plain_binding(binding: Binding) -> BindingJson:
    """A binding as JSON values; `when` is what its condition asks for besides dates."""
    asked = replace(binding.condition, first_day=None, last_day=None)
    first, last = binding.condition.first_day, binding.condition.last_day
    return {
        "effect": binding.effect.value,
        "principal": str(binding.principal),
        "role": binding.role,
        "scope": binding.scope,
        "here_only": binding.here_only,
        "when": condition_text(asked) or None,
        "from": first.isoformat() if first else None,
        "until": last.isoformat() if last else None,
        "built_in": binding.built_in,
        "bundle": binding.bundle or None,
        "pattern": binding.pattern or None,
        "account": binding.account or None,
        "reason": binding.reason,
        **plain_source(binding.source),
    }


def plain_source(source: Source | None) -> LineJson:
    """File and line as JSON values."""
    return {"file": source.file, "line": source.line} if source else {"file": None, "line": None}


def way(user: str, memberships: tuple[MemberStep, ...]) -> str:
    """A chain of memberships in short: `northern-crew in field-crews in staff`."""
    return " in ".join(step.group.name for step in memberships) or user
