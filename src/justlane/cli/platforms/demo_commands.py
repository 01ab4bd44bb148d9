"""Commands of the demo, each in a copy of this process: what all of them need is loaded once."""

from __future__ import annotations

import gc
import os
import sys
import tempfile
from collections.abc import Callable, Sequence
from importlib import import_module
from pathlib import Path
from typing import IO

from justlane.cli.common.terminal import explain, look, relay
from justlane.model.errors import JustLaneError, OutsideError
from justlane.model.shell import spelt

_USED = (
    "justlane.cli.commands", "justlane.cli.main", "justlane.cli.editing.give", "justlane.cli.editing.regroup",
    "justlane.cli.editing.scopes", "justlane.cli.platforms.align", "justlane.cli.platforms.drift",
    "justlane.cli.platforms.probe", "justlane.cli.questions.ask", "justlane.cli.questions.check",
    "justlane.files.opening.from_files", "justlane.files.editing.adoption", "justlane.platforms.over_http.session",
    "justlane.platforms.proof.probe", "justlane.platforms.sheet.dialect", "justlane.engine.surveys.access_table",
    "justlane.engine.regrouping.proposals", "justlane.rules.inspection",
)  # fmt: skip


def load_all() -> None:
    """Load what the commands of the demo are made of."""
    for module in _USED:
        import_module(module)
    gc.freeze()  # copies share it


class Running:
    """A command that has begun."""

    def __init__(self, words: Sequence[str], process: int, said: IO[bytes] | None) -> None:
        self._words, self._process, self._said = words, process, said

    def done(self) -> str:
        """What it said, once it has ended. OutsideError if it failed; a no or a difference is part of the show."""
        code = os.waitstatus_to_exitcode(os.waitpid(self._process, 0)[1])
        said = ""
        if self._said is not None:
            with self._said:
                self._said.seek(0)
                said = self._said.read().decode(errors="replace")
        if code not in (0, 1):
            raise OutsideError(f"`{spelt(*self._words)}` ended with {code}", said.strip() or "see its message above")
        return said


def shown(words: Sequence[str], estate: Path) -> None:
    """Carry a command out; what it says goes where ours goes."""
    _begun(words, estate, None).done()


def quietly(words: Sequence[str], estate: Path) -> Running:
    """Begin a command whose words are kept."""
    return _begun(words, estate, tempfile.TemporaryFile())  # closed by whoever waits


def beside(work: Callable[[], None]) -> Running:
    """Begin something that goes on beside what is shown."""
    return _forked(work, ("demo",), tempfile.TemporaryFile())  # closed by whoever waits


def _begun(words: Sequence[str], estate: Path, into: IO[bytes] | None) -> Running:
    place = str(estate.resolve())

    def work() -> None:
        os.chdir(place)
        sys.argv = ["justlane", "--pager", "never", *words, "--estate", place]
        import_module("justlane.cli.main").run()

    return _forked(work, words, into)


def _forked(work: Callable[[], None], words: Sequence[str], into: IO[bytes] | None) -> Running:
    width = look().width
    sys.stdout.flush()
    sys.stderr.flush()
    process = os.fork()
    if process:
        return Running(words, process, into)
    code = 4
    try:
        if into is not None:
            os.environ["NO_COLOR"] = "1"
            relay(width)
            os.dup2(into.fileno(), 1)
            os.dup2(into.fileno(), 2)
        work()
        code = 0
    except SystemExit as stop:
        code = stop.code if isinstance(stop.code, int) else 1
    except JustLaneError as error:
        explain(error)
        code = error.exit_code
    finally:
        sys.stdout.flush()
        sys.stderr.flush()
        os._exit(code)
