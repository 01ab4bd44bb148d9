"""A platform's habits, as its file says them."""

from __future__ import annotations

from justlane.engine.facts.index import PlatformIndex
from justlane.files.editing.draft import Draft

HABITS, UNBOUND = "habits", "unbound"


def close(draft: Draft, prepared: PlatformIndex) -> None:
    """A place without a binding is open to nobody any more."""
    draft.document(prepared.platform.source.file).put((HABITS, UNBOUND), "closed")
