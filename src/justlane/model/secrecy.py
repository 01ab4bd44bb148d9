"""The secrets that are in force: wherever one comes back from, it is taken out of what is shown and of what is kept.

A secret is registered when it is fetched (`outside.secrets`) and stays registered as long as the program runs.
"""

from __future__ import annotations

HIDDEN = "…"
"""What stands in the place of a secret."""
_SHORTEST = 4
"""What is shorter would be found everywhere, and protects nothing."""

_in_force: list[str] = []
"""The longest first: one may be a part of another."""


def keep_secret(secret: str) -> None:
    """From now on this text is neither shown nor kept, as it stands or as JSON, CSV and addresses write it."""
    from urllib.parse import quote

    from msgspec.json import encode

    if len(secret) >= _SHORTEST:
        written = {secret, encode(secret).decode()[1:-1], secret.replace('"', '""')}
        written |= {quote(secret, safe=""), quote(secret)}
        _in_force[:] = sorted({*_in_force, *written}, key=len, reverse=True)


def without_secrets(text: str) -> str:
    """The text, every secret in it replaced."""
    for secret in _in_force:
        if secret in text:
            text = text.replace(secret, HIDDEN)
    return text


def bytes_without_secrets(content: bytes) -> bytes:
    """The same for what is about to be written to a file."""
    for secret in _in_force:
        known = secret.encode("utf-8", "surrogateescape")
        if known in content:
            content = content.replace(known, HIDDEN.encode())
    return content
