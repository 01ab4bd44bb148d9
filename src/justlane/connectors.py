"""What a connector of another package builds on: this module, and nothing else of justlane.

All names stay what they are; what is not listed here may change with any version. docs/connectors.md says what each is
for, docs/connector_template/ has two connectors to start from.
"""

from __future__ import annotations

from justlane.engine.facts.index import EstateIndex
from justlane.files.disk.beneath import read as read_file
from justlane.files.disk.durable import write_atomically as write_file
from justlane.model.errors import (
    ChangeRefusedError,
    JustLaneError,
    NonsenseError,
    OutsideError,
    PlatformChangedError,
    PlatformRefusedError,
    RefusedError,
    SecretError,
    TimedOutError,
    TokenRefusedError,
    UnreachableError,
    UsageError,
)
from justlane.model.estate import Decides, Estate, Platform
from justlane.model.findings import Source
from justlane.model.people import ANONYMOUS, AUTHENTICATED, Principal, PrincipalKind
from justlane.outside.certificates import trusted
from justlane.outside.http import Answer, Service, destination_of
from justlane.outside.limits import Limits
from justlane.outside.places import Place, place_to_change
from justlane.outside.secrets import Destination, Permit, passwords, released
from justlane.platforms.abilities import Abilities, Beyond, Settings
from justlane.platforms.computed import Outcome, in_names, lines_at, members_of, outcomes
from justlane.platforms.interface import (
    About,
    Connector,
    Corner,
    Declared,
    Dialect,
    Entry,
    Part,
    Reading,
    Session,
    Shown,
    Sort,
    Step,
)
from justlane.platforms.plain_grants import (
    Cell,
    cells,
    directory_of,
    estate_of,
    groups_behind,
    in_date,
    people_behind,
)

__all__ = [
    "ANONYMOUS",
    "AUTHENTICATED",
    "Abilities",
    "About",
    "Answer",
    "Beyond",
    "Cell",
    "ChangeRefusedError",
    "Connector",
    "Corner",
    "Decides",
    "Declared",
    "Destination",
    "Dialect",
    "Entry",
    "Estate",
    "EstateIndex",
    "JustLaneError",
    "Limits",
    "NonsenseError",
    "Outcome",
    "OutsideError",
    "Part",
    "Permit",
    "Place",
    "Platform",
    "PlatformChangedError",
    "PlatformRefusedError",
    "Principal",
    "PrincipalKind",
    "Reading",
    "RefusedError",
    "SecretError",
    "Service",
    "Session",
    "Settings",
    "Shown",
    "Sort",
    "Source",
    "Step",
    "TimedOutError",
    "TokenRefusedError",
    "UnreachableError",
    "UsageError",
    "cells",
    "destination_of",
    "directory_of",
    "estate_of",
    "groups_behind",
    "in_date",
    "in_names",
    "lines_at",
    "members_of",
    "outcomes",
    "passwords",
    "people_behind",
    "place_to_change",
    "read_file",
    "released",
    "trusted",
    "write_file",
]
