"""What a rule is, and the table of those there are.

A rule is a module with an `ID`, a function `find` and a docstring that is its page: `justlane check --about ID`.
"""

from __future__ import annotations

from collections.abc import Iterator
from importlib import import_module
from typing import Protocol, cast

from justlane.engine.facts.index import EstateIndex
from justlane.model.findings import Finding, Severity, Source

RULES = {
    "break-glass-anywhere": "justlane.rules.break_glass_anywhere",
    "disabled-but-bound": "justlane.rules.disabled_but_bound",
    "group-without-people": "justlane.rules.group_without_people",
    "membership-loop": "justlane.rules.membership_loop",
    "no-purpose": "justlane.rules.no_purpose",
    "too-many-circumstances": "justlane.rules.too_many_circumstances",
}
"""Identifier of a rule -> its module."""


class Rule(Protocol):
    """What a rule's module offers."""

    ID: str
    __doc__: str | None

    def find(self, index: EstateIndex) -> Iterator[Finding]:
        """Everything in the estate that the rule warns of."""


def rule(name: str) -> Rule:
    """A rule by its identifier."""
    return cast(Rule, import_module(RULES[name]))


def warnings(index: EstateIndex) -> list[Finding]:
    """What all rules have to say, by file and line, after what reading the files found."""
    found = [finding for name in RULES for finding in rule(name).find(index)]
    return sorted([*index.estate.findings, *found], key=lambda f: (f.source, f.message))


def warning(name: str, source: Source, message: str, hint: str) -> Finding:
    """A finding that does not stop any answer."""
    return Finding(name, Severity.WARNING, source, message, hint)
