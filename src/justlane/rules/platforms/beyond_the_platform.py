"""beyond-the-platform: something is declared that the platform, reached by its connector, cannot express.

Each kind of platform keeps grants in its own words: a database knows no sign-in method, a list of path rules no local
group. What cannot be said there would be missing, or would mean something else, so it is an error where it is declared.

Passes:
    reached by: {connector: sheet, file: hall.csv, columns: {group: Team, role: Right, place: Pump}}

Fails:
    reached by: {connector: sheet, file: hall.csv, columns: {group: Team, role: Right, plaice: Pump}}
"""

from __future__ import annotations

from collections.abc import Iterator

from justlane.model.errors import UsageError
from justlane.model.findings import Severity
from justlane.platforms.interface import all_beyond
from justlane.rules.inspection import Flaw, Inspection, Options

ID = "beyond-the-platform"
SEVERITY = Severity.ERROR
OPTIONS: Options = {}


def find(at: Inspection) -> Iterator[Flaw]:
    """One finding for each line that asks for it."""
    for name, platform in at.estate.platforms.items():
        connection = platform.connection
        if connection is None:
            continue
        try:
            for one in all_beyond(at.index, name):
                yield at.flaw(one.source, one.message, one.hint, about=one.about)
        except UsageError as error:
            message = error.message.removeprefix(f"{connection.source}: ")
            yield at.flaw(connection.source, message, error.hint, about=(name,))
