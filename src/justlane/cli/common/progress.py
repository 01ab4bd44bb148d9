"""Progress on the terminal: a bar on standard error, only where somebody is looking."""

from __future__ import annotations

import sys
from typing import TYPE_CHECKING

from justlane.cli.common.terminal import is_plain, is_terminal
from justlane.model import interruption
from justlane.model.progress import Progress
from justlane.model.visible import shown

if TYPE_CHECKING:
    from rich.progress import Progress as Bar


class TerminalProgress(Progress):
    """Counts always, draws with Rich when standard error is a terminal."""

    def __init__(self) -> None:
        self.total = 0
        self.done = 0
        self._bar: Bar | None = None

    def start(self, total: int, what: str) -> None:
        """Show the bar; without a total it only shows that something goes on."""
        self.stop()
        self.total, self.done = total, 0
        if is_terminal(sys.stderr) and not is_plain():
            from rich.console import Console
            from rich.progress import BarColumn, MofNCompleteColumn, Progress, TextColumn, TimeRemainingColumn

            columns = (
                TextColumn(shown(what), markup=False),
                BarColumn(),
                MofNCompleteColumn(),
                TimeRemainingColumn(),
                TextColumn("{task.description}", markup=False),
            )
            self._bar = Progress(*columns, console=Console(stderr=True), transient=True)
            self._bar.add_task("", total=total or None)
            self._bar.start()

    def step(self, what: str = "") -> None:
        """The step before is done, this one begins."""
        interruption.check()
        if self._bar is not None:
            self._bar.update(self._bar.task_ids[0], completed=self.done, description=shown(what))
        self.done += 1

    def reach(self, done: int, total: int = 0) -> None:
        """So much is done."""
        interruption.check()
        self.done, self.total = done, total or self.total
        if self._bar is not None:
            self._bar.update(self._bar.task_ids[0], completed=done, total=self.total or None)

    def stop(self) -> None:
        """Take the bar away."""
        if self._bar is not None:
            self._bar.stop()
            self._bar = None
