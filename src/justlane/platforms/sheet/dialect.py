"""What a platform without an interface is told, through somebody's hands, and what its export says.

Its roles and groups are made by hand once; what changes from day to day is who has which role where.
"""

from __future__ import annotations

from collections.abc import Iterator
from datetime import datetime

from msgspec.structs import replace

from justlane.engine.facts.index import EstateIndex
from justlane.model.bindings import Binding
from justlane.model.estate import Estate
from justlane.model.findings import Source
from justlane.model.names import did_you_mean
from justlane.model.people import PrincipalKind
from justlane.platforms import plain_grants
from justlane.platforms.abilities import EVERY_HABIT, Abilities, Beyond, Settings
from justlane.platforms.entries import HERE, principal_of
from justlane.platforms.interface import Declared, Dialect, Entry, Part, Reading, Step

COLUMNS = ("group", "user", "role", "place")
"""What may be in a column of the export; role and place have to be, and one of the others."""


class SheetDialect(Dialect):
    """Who has which role where."""

    parts = ("bindings",)
    says_all = True
    by_people = True
    everybody_signs_in = False
    settings = Settings(("file", "columns"))
    abilities = Abilities(
        habits=EVERY_HABIT - {"publication"},
        conditions=frozenset(),
        principals=frozenset((PrincipalKind.GROUP, PrincipalKind.USER)),
        means=frozenset(("resource groups",)),
    )

    def declared(self, index: EstateIndex, platform: str, moment: datetime) -> Declared:
        """One line for each role that somebody has at a place."""
        held: Part = {}
        lines: dict[tuple[str, str], tuple[Source, ...]] = {}
        for b in plain_grants.in_date(index, platform, moment):
            name = f"{b.role} {b.scope} {b.principal}"
            held[name] = entry_of(str(b.principal), b.role, b.scope)
            lines["bindings", name] = (*lines.get(("bindings", name), ()), b.source)
        return Declared({"bindings": held}, lines)

    def as_read(self, index: EstateIndex, platform: str, reading: Reading) -> Estate:
        """The declared platform, with the bindings that the export has; people and groups are the directory's."""
        declared = index.platform(platform)
        own = [b for b in declared.bindings if b.built_in]
        found: list[Binding] = []
        for entry in reading.part("bindings").values():
            to = principal_of(entry.get("principal"))
            role, scope = str(entry.get("role")), str(entry.get("scope"))
            if to and role in declared.platform.roles and scope in declared.platform.scopes:
                found.append(Binding(to, role, scope, "", HERE))
        zone, directory = index.estate.time_zone, index.estate.directory
        held = replace(declared.platform, ceilings=())
        return Estate("held", "", zone, directory, {platform: held}, (*own, *found), ())

    def words(self, part: str, name: str, entry: Entry) -> str:
        """As somebody says it."""
        return f"{entry.get('role')} to {entry.get('principal')} at {entry.get('scope')}"

    def unjudged(self, index: EstateIndex, platform: str, reading: Reading) -> tuple[str, ...]:
        """Lines that name an account, a role or a place that the estate does not know."""
        some = ((entry, _missing(index, platform, entry)) for entry in reading.part("bindings").values())
        return tuple(f"{self.words('bindings', '', entry)}: {missing}" for entry, missing in some if missing)

    def uncounted(self, index: EstateIndex, platform: str, reading: Reading, part: str, entry: Entry) -> str:
        """Why such a line is in no count."""
        missing = _missing(index, platform, entry)
        return f"not judged: {missing}" if missing else ""

    def strokes(self, reading: Reading, steps: tuple[Step, ...]) -> tuple[tuple[Step, ...], ...]:
        """First what is given, then what is taken, place by place."""

        def place(step: Step) -> tuple[bool, str]:
            return step.after is None, str((step.after or step.before or {}).get("scope"))

        return tuple((step,) for step in sorted(steps, key=place))

    def more_beyond(self, index: EstateIndex, platform: str) -> Iterator[Beyond]:
        """Columns that make no export; people where it has groups alone, and the other way round."""
        declared = index.platform(platform)
        connection = declared.platform.connection
        assert connection is not None
        columns = connection.columns
        for key in columns:
            if key not in COLUMNS:
                hint = did_you_mean(key, COLUMNS, f"there are: {', '.join(COLUMNS)}")
                yield Beyond(connection.source, f"`columns` knows no {key!r}", hint, (platform,))
        if columns and not ({"role", "place"} <= set(columns) and {"group", "user"} & set(columns)):
            hint = "say in which columns the role and the place are, and the group, the user, or both"
            yield Beyond(connection.source, "`columns` does not say all that is needed", hint, (platform,))
        for b in declared.bindings:
            kind = b.principal.kind.value
            if kind in ("group", "user") and not b.built_in and columns and kind not in columns:
                message = f"the export of {platform} has no column for a {kind}"
                yield Beyond(b.source, message, f"say under `columns` where it is: `{kind}: …`", (str(b.principal),))


def _missing(index: EstateIndex, platform: str, entry: Entry) -> str:
    """What a line names that the estate does not know, in words; empty if it can be judged."""
    declared, directory = index.platform(platform).platform, index.estate.directory
    known = {"role": declared.roles, "scope": declared.scopes}
    missing = [f"{key} {entry.get(key)!r}" for key, some in known.items() if str(entry.get(key)) not in some]
    whom = principal_of(entry.get("principal"))
    there = directory.groups if whom and whom.kind is PrincipalKind.GROUP else directory.users
    if whom is None or whom.name not in there:
        missing.append(str(entry.get("principal")))
    return f"the estate knows no {', no '.join(missing)}" if missing else ""


def entry_of(principal: str, role: str, scope: str) -> Entry:
    """A line, as it is compared and taken over."""
    return {
        "principal": principal,
        "role": role,
        "scope": scope,
        "deny": False,
        "here_only": False,
        "bundle": "",
    }


DIALECT = SheetDialect()
