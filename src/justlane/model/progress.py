"""How long work tells how far it is: an object that does nothing unless somebody wants to look."""

from __future__ import annotations


class Progress:
    """Told about work as it goes on. This one keeps it to itself."""

    def start(self, total: int, what: str) -> None:
        """Work of `total` steps begins; 0 if nobody knows how many."""

    def step(self, what: str = "") -> None:
        """One step begins; the one before is done."""

    def reach(self, done: int, total: int = 0) -> None:
        """So many steps are done, of so many as is known by now; 0 if nobody knows."""

    def stop(self) -> None:
        """No more is told."""
