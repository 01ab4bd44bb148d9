"""Files of delegates: whatever in them reaches beyond what was delegated, also through a role or a resource group."""

from __future__ import annotations

from collections.abc import Iterator

from justlane.engine.facts.coverage import CoverageIndex
from justlane.engine.facts.roles import RoleIndex
from justlane.files.building.bindings import principal_of
from justlane.files.building.lookup import Found, Lookup, error
from justlane.files.reading.estate_files import DeclaredFiles
from justlane.files.reading.shapes import BindingsFile, OnlyShape
from justlane.files.reading.yamltext import Text
from justlane.model.bindings import Binding, Delegation
from justlane.model.estate import Estate, Platform
from justlane.model.findings import Finding
from justlane.model.patterns import matching
from justlane.model.people import Principal, PrincipalKind
from justlane.model.scopes import contains, platform_of

RULE = "beyond-delegation"


def delegations_of(declared: DeclaredFiles) -> tuple[Delegation, ...]:
    """What was delegated, by file."""
    return tuple(_delegation(text, file.only) for text, file in declared.of(BindingsFile) if file.only is not None)


def _delegation(text: Text, shape: OnlyShape) -> Delegation:
    return Delegation(
        text.file,
        tuple(address.strip("/") for address in shape.scopes),
        shape.roles,
        shape.actions,
        tuple(map(_principal, shape.groups)),
        principal_of(shape.by),
        text.key("only"),
    )


def _principal(text: str) -> Principal:
    """`crew` as `group crew`."""
    kinds = tuple(f"{kind} " for kind in PrincipalKind)
    return principal_of(text) if text.startswith(kinds) else Principal(PrincipalKind.GROUP, text)


def check_heads(lookup: Lookup, declared: DeclaredFiles) -> Iterator[Finding]:
    """What a head names must exist, and its file have bindings and expectations alone."""
    for text, file in declared.of(BindingsFile):
        if file.only is None:
            continue
        yield from _head(lookup, text, next(d for d in lookup.estate.delegations if d.file == text.file))
        for section in ("bundles", "situations"):
            if getattr(file, section):
                message = f"a delegate's file has no {section}"
                yield error(RULE, text.key(section), message, "they belong into a file of the estate's keepers")


def check_delegations(lookup: Lookup, declared: DeclaredFiles) -> Iterator[Finding]:
    """Every line must stay within the head of its file; only where roles and places are sound."""
    estate = lookup.estate
    limits = _Limits(estate)
    for text, file in declared.of(BindingsFile):
        if file.only is None:
            continue
        delegation = next(d for d in estate.delegations if d.file == text.file)
        for binding in (b for b in estate.bindings if b.source.file == text.file):
            said = limits.beyond(delegation, binding)
            if said:
                hint = f"`only` says what this file may touch ({delegation.source.line_address})"
                yield error(RULE, binding.source, said, hint)


def reaches_beyond(estate: Estate) -> bool:
    """Whether any line of a delegate's file does not stay within its head."""
    by_file = {delegation.file: delegation for delegation in estate.delegations}
    limits = _Limits(estate)
    lines = [b for b in estate.bindings if b.source.file in by_file] if by_file else []
    return any(limits.beyond(by_file[line.source.file], line) for line in lines)


def _head(lookup: Lookup, text: Text, delegation: Delegation) -> Found:
    for place, address in enumerate(delegation.scopes):
        yield from lookup.scope(address, text.source("only", "scopes", place))
    for principal in (*delegation.groups, delegation.by):
        yield from lookup.principal(principal, delegation.source)
    platforms = [
        lookup.estate.platforms[n] for n in map(platform_of, delegation.scopes) if n in lookup.estate.platforms
    ]
    for place, role in enumerate(delegation.roles):
        known = [name for platform in platforms for name in platform.roles]
        yield from lookup.name(role, known, "role", text.source("only", "roles", place))


class _Limits:
    """Tells what in a binding reaches beyond a delegation."""

    def __init__(self, estate: Estate) -> None:
        self._estate = estate
        self._coverage: dict[str, CoverageIndex] = {}
        self._roles: dict[str, RoleIndex] = {}

    def beyond(self, allowed: Delegation, binding: Binding) -> str:
        """In words; empty if the binding stays within."""
        platform = self._estate.platforms.get(platform_of(binding.scope))
        if platform is None or binding.scope not in platform.scopes or binding.role not in platform.roles:
            return ""  # that is said elsewhere
        if binding.built_in:
            return "what is built in is not a delegate's to say"
        return (
            self._place(allowed, binding, platform) or self._role(allowed, binding, platform) or _to(allowed, binding)
        )

    def _place(self, allowed: Delegation, binding: Binding, platform: Platform) -> str:
        if platform.name not in self._coverage:
            self._coverage[platform.name] = CoverageIndex(platform.scopes)
        for place in self._coverage[platform.name].covered(binding.scope):
            if not any(contains(outer, place) for outer in allowed.scopes):
                through = "" if place == binding.scope else f", through {binding.scope}"
                return f"this reaches {place}{through}, which was not delegated"
        return ""

    def _role(self, allowed: Delegation, binding: Binding, platform: Platform) -> str:
        if binding.role not in allowed.roles:
            return f"the role {binding.role} was not delegated"
        if not allowed.actions:
            return ""
        if platform.name not in self._roles:
            self._roles[platform.name] = RoleIndex(platform.roles, platform.actions)
        held = self._roles[platform.name].holdings(binding.role)
        within = {a for pattern in allowed.actions for a in matching(pattern, platform.actions)}
        more = [action for action in held if action not in within]
        return f"{binding.role} holds {more[0]}, which was not delegated" if more else ""


def _to(allowed: Delegation, binding: Binding) -> str:
    if binding.principal in allowed.groups:
        return ""
    return f"{binding.principal} is none of those to whom the delegate may give"
