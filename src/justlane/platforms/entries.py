"""What the entries of a reading say: data that somebody else may have written, so what makes no sense is nothing."""

from __future__ import annotations

from justlane.model.findings import Source
from justlane.model.people import Principal, PrincipalKind

HERE = Source("the platform")
"""Where what was read stands."""
_NAMED = ("local group", "group", "user")


def texts(value: object) -> list[str]:
    """The texts in a list."""
    return [item for item in value if isinstance(item, str)] if isinstance(value, list) else []


def principal_of(value: object) -> Principal | None:
    """A principal as platforms write it; None for what makes no sense."""
    text = value if isinstance(value, str) else ""
    if text in (PrincipalKind.AUTHENTICATED, PrincipalKind.ANONYMOUS):
        return Principal(PrincipalKind(text))
    kind = next((known for known in _NAMED if text.startswith(f"{known} ")), "")
    return Principal(PrincipalKind(kind), text[len(kind) + 1 :]) if kind else None
