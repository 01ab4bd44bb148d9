"""Counts that all processes keep together, and the page that shows them (the Prometheus text format 0.0.4).

One shared block of memory, a row of 64-bit numbers for each process, which alone writes its own: no lock is needed.
"""

from __future__ import annotations

import mmap
import struct
from collections.abc import Mapping

BUCKETS = (0.0005, 0.001, 0.0025, 0.005, 0.01, 0.025, 0.1, 0.5, 2.5)
"""Upper bounds of the histogram of durations, in seconds."""
_NAMES = (
    "evaluations", "permitted", "searches", "wrong", "refused", "failed",
    *(f"bucket {n}" for n in range(len(BUCKETS) + 1)), "nanoseconds", "requests",
)  # fmt: skip
PLACES: Mapping[str, int] = {name: number for number, name in enumerate(_NAMES)}
_SHARED = ("generation", "reloads", "reload_failures", "loaded_at", "unsound")
_WORD = struct.Struct("<q")
_PAGE = (
    ("evaluations", "justlane_evaluations_total", "Questions that were answered with yes or no."),
    ("permitted", "justlane_permitted_total", "Of them, those answered with yes."),
    ("searches", "justlane_searches_total", "Searches that were answered."),
    ("wrong", "justlane_wrong_requests_total", "Requests that made no sense (400 and its like)."),
    ("refused", "justlane_refused_requests_total", "Requests without a valid token (401)."),
    ("failed", "justlane_failed_requests_total", "Requests that failed here (500)."),
)


class Counters:
    """The shared block. Made before the processes are."""

    def __init__(self, processes: int) -> None:
        self._rows = processes
        self._memory = mmap.mmap(-1, (processes * len(_NAMES) + len(_SHARED)) * _WORD.size)

    def row(self, process: int) -> CounterRow:
        """The numbers that one process writes."""
        return CounterRow(self._memory, process * len(_NAMES))

    def shared(self, name: str) -> int:
        """A number that the supervising process alone writes."""
        return int(_WORD.unpack_from(self._memory, self._place(name))[0])

    def set_shared(self, name: str, value: int) -> None:
        """Write it."""
        _WORD.pack_into(self._memory, self._place(name), value)

    def _place(self, name: str) -> int:
        return (self._rows * len(_NAMES) + _SHARED.index(name)) * _WORD.size

    def page(self) -> str:
        """All of it, added up over the processes."""
        sums = [sum(self.row(n).get(name) for n in range(self._rows)) for name in _NAMES]
        of = dict(zip(_NAMES, sums, strict=True))
        lines: list[str] = []
        for key, name, says in _PAGE:
            lines += [f"# HELP {name} {says}", f"# TYPE {name} counter", f"{name} {of[key]}"]
        name = "justlane_request_duration_seconds"
        lines += [f"# HELP {name} From the last byte of a request to its answer.", f"# TYPE {name} histogram"]
        so_far = 0
        for n, bound in enumerate((*map(str, BUCKETS), "+Inf")):
            so_far += of[f"bucket {n}"]
            lines.append(f'{name}_bucket{{le="{bound}"}} {so_far}')
        lines += [f"{name}_sum {of['nanoseconds'] / 1e9:.9f}", f"{name}_count {of['requests']}"]
        for key, name, kind, says in (
            ("reloads", "justlane_reloads_total", "counter", "Times that the estate was read again."),
            ("reload_failures", "justlane_reload_failures_total", "counter", "Times that it could not be."),
            ("loaded_at", "justlane_estate_loaded_timestamp_seconds", "gauge", "When what answers now was read."),
            ("unsound", "justlane_estate_unsound", "gauge", "1 while the files are not sound, and older ones answer."),
        ):
            lines += [f"# HELP {name} {says}", f"# TYPE {name} {kind}", f"{name} {self.shared(key)}"]
        return "\n".join(lines) + "\n"


class CounterRow:
    """The numbers of one process."""

    def __init__(self, memory: mmap.mmap, start: int) -> None:
        self._memory, self._start = memory, start

    def get(self, name: str) -> int:
        """One number."""
        return int(_WORD.unpack_from(self._memory, (self._start + PLACES[name]) * _WORD.size)[0])

    def add(self, name: str, more: int = 1) -> None:
        """Count."""
        at = (self._start + PLACES[name]) * _WORD.size
        _WORD.pack_into(self._memory, at, _WORD.unpack_from(self._memory, at)[0] + more)

    def took(self, nanoseconds: int) -> None:
        """Note how long a request took."""
        seconds = nanoseconds / 1e9
        number = next((n for n, bound in enumerate(BUCKETS) if seconds <= bound), len(BUCKETS))
        self.add(f"bucket {number}")
        self.add("nanoseconds", nanoseconds)
        self.add("requests")
