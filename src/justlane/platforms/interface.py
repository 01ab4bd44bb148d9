"""What a connector offers, and the table of those there are.

A connector has two halves. The *dialect* is pure: what the platform can express, what is declared in the platform's own
words with the lines that ask for it, and what a reading means in ours. The *connector* proper talks: it reads, makes
changes, asks, signs in and tries. docs/connectors.md is the page for whoever writes one.
"""

from __future__ import annotations

from abc import ABC, abstractmethod
from collections import Counter
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from datetime import datetime
from importlib import import_module
from importlib.metadata import entry_points
from pathlib import Path
from typing import Annotated, Literal, Protocol, cast

from msgspec import Meta, Struct
from msgspec.structs import replace

from justlane.engine.facts.index import EstateIndex
from justlane.model.circumstances import ALWAYS, Condition
from justlane.model.errors import UsageError
from justlane.model.estate import Estate, Platform
from justlane.model.findings import Source
from justlane.model.names import did_you_mean
from justlane.model.people import Principal, PrincipalKind
from justlane.model.roles import Action
from justlane.model.scopes import contains, with_containing
from justlane.outside.secrets import Permit, nobody_to_ask
from justlane.platforms.abilities import Abilities, Beyond, Settings, beyond
from justlane.platforms.entries import principal_of

Entry = dict[str, object]
"""One thing that a platform holds, as JSON values."""

Part = dict[str, Entry]
"""Things of one sort, by the platform's identifier."""

Word = Annotated[str, Meta(pattern=r"^[!#-~]{0,1000}$")]
"""Text that can go into a header of HTTP."""


class Reading(Struct, frozen=True):
    """What a platform, asked, says that it holds today."""

    revision: Word
    """Changes with every change on the platform."""
    parts: dict[str, Part]

    def part(self, name: str) -> Part:
        """Things of one sort; none if the platform has nothing of the sort."""
        return self.parts.get(name, {})

    def changed(self, entries: Iterable[tuple[str, str, Entry | None]]) -> Reading:
        """The same with some entries, (part, name, entry), set; those that are None are gone."""
        parts = {name: dict(part) for name, part in self.parts.items()}
        for part, name, entry in entries:
            if entry is None:
                parts.get(part, {}).pop(name, None)
            else:
                parts.setdefault(part, {})[name] = entry
        return replace(self, parts=parts)

    def after(self, steps: Iterable[Step]) -> Reading:
        """The same once some steps are made."""
        return self.changed((step.part, step.name, step.after) for step in steps)

    def before(self, steps: Iterable[Step]) -> Reading:
        """The same before some steps were made."""
        return self.changed((step.part, step.name, step.before) for step in steps)


class Declared(Struct, frozen=True):
    """What a platform ought to hold, in its own words."""

    parts: dict[str, Part]
    lines: Mapping[tuple[str, str], tuple[Source, ...]] = {}
    """(part, name) -> the lines of the estate that ask for it; nothing for what comes from the directory alone."""

    def lines_of(self, part: str, name: str) -> tuple[Source, ...]:
        """The lines that ask for one thing."""
        return self.lines.get((part, name), ())


class Step(Struct, frozen=True):
    """One change: something added (no `before`), changed, or removed (no `after`)."""

    part: str
    name: str
    """The platform's identifier."""
    before: Entry | None
    after: Entry | None
    what: str = ""
    """What it is about, in words of the dialect; empty where our own words do."""
    lines: tuple[Source, ...] = ()
    """The lines of the estate that ask for it."""
    by_hand: bool = False
    """Whether it is shown, and has to be done by somebody else than a connector."""
    when: Condition = ALWAYS
    """The circumstances in which it gives or takes what it does."""
    keeps: bool = False
    """Whether it lets an account that is left alone keep what another step would take from it."""
    changes: tuple[str, ...] = ()
    """What a change changes inside the thing, in words."""
    uncounted: str = ""
    """What it brings besides cells, in words: that is in no count, and never called harmless."""

    @property
    def verb(self) -> Literal["add", "change", "remove"]:
        """`add`, `change` or `remove`."""
        return "add" if self.before is None else "remove" if self.after is None else "change"


class About(Struct, frozen=True):
    """By what one thing that a platform holds is managed or not; empty where it is about nothing of the sort."""

    place: str = ""
    """The address at which it stands."""
    role: str = ""
    principal: Principal | None = None
    """Whom it gives something to, or whose account it is."""


class Sort(Struct, frozen=True):
    """What one of the parts of a platform is made of."""

    one: str
    """A single thing, in words: `grant`."""
    many: str
    """Several of them: `grants`."""
    neutral: bool = False
    """Whether a thing of the sort gives nothing by itself, since only others name it: such are added first, and several
    that are added share a line. Accounts, groups and roles are."""
    one_by_one: bool = False
    """Whether each new one has a line of its own in a plan all the same."""
    accounts: bool = False
    """Whether it is what people sign in with: `enabled` says whether they may."""
    members: bool = False
    """Whether it lists people and groups under `members`."""


class Dialect(ABC):
    """How one kind of platform says things: the pure half of a connector."""

    parts: tuple[str, ...]
    """The sorts of things it holds, in the order in which they have to be added."""
    sorts: Mapping[str, Sort] = {}
    """What each part is made of; a part that is not there is called by its own name, and gives something."""
    says_all: bool = False
    """Whether its parts and entries are those of an estate (roles, bindings, publications), so that whole entries can
    be taken over into one rather than single grants."""
    abilities: Abilities
    settings: Settings = Settings()
    only_shown: frozenset[str] = frozenset()
    """Parts that a reading shows, and that no connector changes."""
    beside: frozenset[str] = frozenset()
    """Parts of which only what is declared is compared: the rest of them only helps to understand a reading."""
    exact: str = ""
    """A part of readings that holds things exactly as the platform keeps them: what a run changed is brought back by
    these rather than by what they mean. Each entry says its `place`, like the entries of steps."""
    by_people: bool = False
    """Whether somebody carries the steps out by hand, from a sheet."""
    everybody_signs_in: bool = True
    """Whether everybody of the directory has an account there, whatever they are given."""

    @abstractmethod
    def declared(self, index: EstateIndex, platform: str, moment: datetime) -> Declared:
        """What the platform ought to hold at a moment."""

    @abstractmethod
    def as_read(self, index: EstateIndex, platform: str, reading: Reading) -> Estate:
        """An estate with this platform alone, that holds what was read, with the scopes and actions that are declared.

        A reading is data that somebody else may have written: what makes no sense in it gives nobody anything.
        """

    def strokes(self, reading: Reading, steps: tuple[Step, ...]) -> tuple[tuple[Step, ...], ...] | None:
        """The steps from a reading on, in portions that are made together; None to have them ordered by what they give
        and take. There may be more of them, where something in between is needed."""
        return None

    def more_beyond(self, index: EstateIndex, platform: str) -> Iterator[Beyond]:
        """What cannot be said there besides what `abilities` leaves out."""
        return iter(())

    def as_grant(self, part: str, entry: Entry) -> tuple[Principal, frozenset[str], str, bool] | None:
        """One thing that a platform holds as (principal, actions, scope, here only), to be taken over into the estate;
        None for what is no grant, or means something only beside others."""
        return None

    def tries(self, platform: Platform, action: Action) -> bool:
        """Whether an action of a platform may be tried; the connector may still have no trial of it without harm."""
        return action.harmless is not False

    def about(self, platform: str, part: str, name: str, entry: Entry) -> About:
        """The place, the role and the principal that one thing is about."""
        where = (entry.get("scope"), entry.get("place"))
        role = name if part == "roles" else str(entry.get("role") or "")
        named = (entry.get("principal"), entry.get("to"), entry.get("owner"), entry.get("member"))
        whom = next((found for found in map(principal_of, named) if found), None)
        whom = Principal(PrincipalKind.USER, name) if self.sort(part).accounts else whom
        return About(next((address for address in where if isinstance(address, str)), ""), role, whom)

    def example_places(self) -> dict[str, str]:
        """A small tree of places, path -> kind, on which the dialect is tested."""
        return {"a": "folder", "a/b": "folder", "a/b/c": "folder", "d": "folder"}

    def restricts(self, part: str, entry: Entry) -> bool:
        """Whether one thing takes away from people rather than giving to them, as a deny does."""
        return False

    def between(self, part: str, before: Entry, after: Entry) -> Entry | None:
        """One thing that gives what it gave before and what it is to give; None if there is nothing of the sort."""
        return None

    def sort(self, part: str) -> Sort:
        """What a part is made of."""
        called = part.replace("_", " ")
        return self.sorts.get(part) or Sort(called.removesuffix("s"), called)

    def words(self, part: str, name: str, entry: Entry) -> str:
        """One thing in words."""
        return f"{self.sort(part).one} {name}"

    def change_in_words(self, part: str, key: str, before: object, after: object) -> str:
        """What it means that a value inside a thing becomes another; None is no value."""
        called = key.replace("_", " ")
        if isinstance(after, bool) or isinstance(before, bool):
            return f"now {called}" if after else f"no longer {called}"
        if before in (None, ""):
            return f"{called} {after}"
        return (
            f"no {called} any more (was {before})" if after in (None, "") else f"{called} {after} instead of {before}"
        )

    def changes_in_words(self, part: str, before: Entry, after: Entry) -> Iterator[str]:
        """What changes inside a thing, value by value."""
        for key in {**before, **after}:
            old, new = before.get(key), after.get(key)
            if isinstance(old, list) and isinstance(new, list):
                yield from (f"{key} gain {item}" for item in new if item not in old)
                yield from (f"{key} lose {item}" for item in old if item not in new)
            elif old != new:
                yield self.change_in_words(part, key, old, new)

    def condition(self, part: str, entry: Entry) -> Condition:
        """The circumstances in which a thing counts."""
        return ALWAYS

    def alike(self, part: str, held: Entry | None, wanted: Entry | None) -> bool:
        """Whether a platform that holds the one needs no change to hold the other; None for nothing."""
        return held == wanted

    def settled(self, reading: Reading, steps: Sequence[Step], *, back: bool = False) -> list[Step]:
        """The steps as they can and may be made from a reading on: what is left alone keeps what it can do, by steps of
        its own, and what cannot be done is for somebody's hands. `back` for steps that take others back."""
        return list(steps)

    def remarks(self, reading: Reading, steps: Sequence[Step]) -> tuple[str, ...]:
        """What somebody has to know before the steps are made: what else to do, what cannot be taken back."""
        return ()

    def uncounted(self, index: EstateIndex, platform: str, reading: Reading, part: str, entry: Entry) -> str:
        """What one thing brings that no count of cells holds, in words, or why it cannot be judged; empty if all that
        it brings is counted."""
        return ""

    def new_places(self, index: EstateIndex, platform: str, reading: Reading) -> dict[str, str]:
        """Address -> kind of the places that a reading shows and nobody declared, each after what it lies in."""
        return {}

    def unjudged(self, index: EstateIndex, platform: str, reading: Reading) -> tuple[str, ...]:
        """What a reading holds that cannot be judged, in words that say what is missing: an account, role, place or
        action that the estate does not know, or a meaning that is not known. Then no effect can be relied on."""
        return ()


Address = Annotated[str, Meta(max_length=4000)]
"""Of a scope, as a platform writes it: its names may hold whatever can be printed."""


class Shown(Struct, frozen=True):
    """What a platform shows of one container to somebody."""

    lists: list[Address]
    """Addresses of the scopes that it lists."""
    total: int
    """How many scopes it says that there are in it, at any depth."""


class Session(Protocol):
    """Somebody, signed in."""

    def sees(self) -> dict[Address, Shown] | None:
        """Every scope that the platform shows to them, by address; None if it shows nothing of the sort."""

    def attempt(self, action: str, scope: str) -> bool | None:
        """Really try the action, so that nothing is left of it; whether the platform let it happen. None if there is no
        trial of it without harm."""

    def close(self) -> None:
        """Sign out."""


class Connector(Protocol):
    """One platform that can be read, changed and tried. Every failure is an `OutsideError`."""

    def read(self) -> Reading:
        """Everything that the platform holds."""

    def change(self, steps: Sequence[Step], revision: str, key: str) -> str:
        """Make some changes, all or none, if the platform is still at that revision; returns the next revision.

        ChangeRefusedError if the platform did not make them, and it is certain that none came about. A change that was
        made already under the same key is not made again.
        """

    def evaluate(self, user: str, cells: Sequence[tuple[str, str, str]], context: Entry) -> list[bool | None]:
        """What the platform says to each (action, kind of scope, scope) for that user in some circumstances; None where
        it cannot be asked."""

    def can_become(self, user: str) -> bool:
        """Whether there are means to sign in as a person: their password, the right to act as them."""

    def sign_in(self, user: str, context: Entry) -> Session | None:
        """Sign in as a person, in some circumstances; None if the platform refuses them."""

    def close(self) -> None:
        """Let go of the connection."""


class Corner(Struct, frozen=True):
    """A part of a platform that a connector makes for being tested in, by its name, and takes away again.

    A connector that has one offers two more methods: `make_corner(name)`, which returns it, and
    `remove_corner(corner)`, which may be called twice and takes nothing but what `make_corner` made.
    """

    name: str
    """Nothing else on the platform has it in its name."""
    places: dict[str, str] = {}
    """Address -> kind of the places that were made, the outermost first; none if all is done at the platform itself."""
    people: tuple[str, ...] = ()
    """Accounts that are there and may be named in it, where none can be made; none if they can."""


class Kind(Protocol):
    """What the module of a connector offers."""

    DIALECT: Dialect

    def connect(self, platform: Platform, folder: Path, permit: Permit) -> Connector:
        """A connector for a platform of an estate in `folder`; `permit` asks the person what may be used for it."""


CONNECTORS = {
    "folders": "justlane.platforms.folders",
    "http": "justlane.platforms.over_http",
    "postgresql": "justlane.platforms.postgresql",
    "sheet": "justlane.platforms.sheet",
    "stand-in": "justlane.platforms.over_http",
    "subversion": "justlane.platforms.subversion",
}
"""Kind of connector -> the module that has its `DIALECT` and `connect`; imported when it is used."""

GROUP = "justlane.connectors"
"""The group of entry points by which other packages offer connectors."""


def known_connectors() -> dict[str, str]:
    """Every kind of connector there is, those of other packages included, with where it comes from."""
    others = {point.name: point.value for point in entry_points(group=GROUP)}
    return {**others, **CONNECTORS}


def kind_of(name: str, source: Source | None = None) -> Kind:
    """A kind of connector by its name. UsageError if there is none, or if another package's cannot be loaded."""
    if name in CONNECTORS:
        return cast(Kind, import_module(CONNECTORS[name]))
    from justlane.platforms.guarded import guarded

    known = known_connectors()
    at = f"{source}: " if source else ""
    if name not in known:
        raise UsageError(
            f"{at}there is no connector {name!r}", did_you_mean(name, known, f"there are: {', '.join(sorted(known))}")
        )
    try:
        return cast(Kind, guarded(import_module(known[name].partition(":")[0]), f"{name!r} ({known[name]})"))
    except Exception as error:  # whatever another package does when it is loaded
        message = f"{at}the connector {name!r} of another package cannot be loaded: {type(error).__name__}: {error}"
        raise UsageError(message, "mend or remove that package") from error


def dialect_of(platform: Platform) -> Dialect:
    """The dialect of a platform. UsageError if the estate does not say how it is reached."""
    connection = platform.connection
    if connection is None:
        hint = "add a `reached by` section to its file: see the page on estate files"
        raise UsageError(f"the estate does not say how {platform.name} is reached ({platform.source})", hint)
    return kind_of(connection.connector, connection.source).DIALECT


def all_beyond(index: EstateIndex, platform: str) -> Iterator[Beyond]:
    """All that is declared of a platform and cannot be expressed on it, each with its line."""
    declared = index.estate.platforms[platform]
    dialect = dialect_of(declared)
    assert declared.connection is not None
    yield from beyond(index, platform, declared.connection.connector, dialect.abilities, dialect.settings)
    yield from dialect.more_beyond(index, platform)
    if declared.manages and declared.manages.roles and not dialect.says_all:
        message = f"a {declared.connection.connector} platform has no roles that could be managed"
        yield Beyond(declared.manages.source, message, "name places or accounts", (platform,))


UNKNOWN_KIND = "place"
"""What a place is called of which only the address is known."""


def places_of(platform: Platform, folder: Path, permit: Permit) -> dict[str, str]:
    """Address -> kind of every place that a platform has, each after what it lies in.

    Of one that cannot list its places, those at which it holds something, and what they lie in.
    """
    connector = connect(platform, folder, permit)
    try:
        listing = getattr(connector, "places", None)
        found = _named_in(platform, connector.read()) if listing is None else cast(dict[str, str], listing())
        return dict(sorted(found.items(), key=lambda item: item[0].split("/")))
    finally:
        connector.close()


def _named_in(platform: Platform, reading: Reading) -> dict[str, str]:
    """The places that a reading names, each of the kind that most declared places at its depth have."""
    depths: dict[int, Counter[str]] = {}
    for scope in platform.scopes.values():
        depths.setdefault(scope.address.count("/"), Counter())[scope.kind] += 1
    kinds = {depth: some.most_common(1)[0][0] for depth, some in depths.items()}
    entries = (entry for part in reading.parts.values() for entry in part.values())
    named = {str(entry["scope"]) for entry in entries if isinstance(entry.get("scope"), str)}
    found = {place for one in named if contains(platform.name, one) for place in with_containing(one)}
    known = {address: scope.kind for address, scope in platform.scopes.items()}
    return {one: known.get(one) or kinds.get(one.count("/"), UNKNOWN_KIND) for one in found}


def read_platform(platform: Platform, folder: Path, permit: Permit) -> Reading:
    """What a platform holds, read once."""
    connector = connect(platform, folder, permit)
    try:
        return connector.read()
    finally:
        connector.close()


def connect(platform: Platform, folder: Path, permit: Permit = nobody_to_ask) -> Connector:
    """A connector for a platform of an estate in `folder`; `permit` asks the person whether a secret may go there.

    UsageError if the estate does not say how to reach it, RefusedError if something may not be used, SecretError if a
    secret cannot be had.
    """
    dialect_of(platform)
    connection = platform.connection
    assert connection is not None
    make = cast(Callable[[Platform, Path, Permit], Connector], kind_of(connection.connector).connect)
    return make(platform, folder, permit)
