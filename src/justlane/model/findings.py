"""Where a thing was written, and what is wrong with it."""

from __future__ import annotations

from collections.abc import Iterable
from enum import StrEnum

from msgspec import Struct


class Source(Struct, frozen=True, array_like=True, order=True):
    """A place in a text file. Lines and columns count from 1; 0 means "the file as a whole"."""

    file: str
    line: int = 0
    column: int = 0

    def __str__(self) -> str:
        """`file:line:column`, without the parts that are unknown."""
        return ":".join([self.file, *(str(n) for n in (self.line, self.column) if n)])

    @property
    def line_address(self) -> str:
        """`file:line`, the form that answers cite."""
        return f"{self.file}:{self.line}" if self.line else self.file


class Severity(StrEnum):
    """How bad a finding is: an `error` in the files stops every answer, a `warning` does not; a `note` is no blame."""

    ERROR = "error"
    WARNING = "warning"
    NOTE = "note"


class Finding(Struct, frozen=True):
    """One thing that is wrong with an estate."""

    rule: str
    """Identifier of the check that found it, in kebab case."""
    severity: Severity
    source: Source
    message: str
    """What was found and what was expected, in one sentence."""
    hint: str = ""
    """What to do about it; empty when the message says it all."""
    found: str = ""
    """A name that stands there, where another one is known to be right."""
    instead: str = ""
    """That other name; empty if none is known."""


def has_errors(findings: Iterable[Finding]) -> bool:
    """Whether one of them stops every answer."""
    return any(finding.severity is Severity.ERROR for finding in findings)
