"""What a file of path rules is told and says.

In such a file the nearest path with a line for somebody decides, and within it all lines for them together; newer
servers weigh patterns of paths by the order of the file. We write plain paths only, and at each of them name everybody
whom it concerns, so old and new servers decide alike.
"""

from __future__ import annotations

import re
from collections.abc import Iterator, Sequence
from datetime import UTC, datetime

from justlane.engine.facts.index import EstateIndex
from justlane.model.estate import Decides, Estate
from justlane.model.findings import Source
from justlane.model.names import some_of
from justlane.model.people import ANONYMOUS, AUTHENTICATED, Principal, PrincipalKind
from justlane.model.scopes import PLATFORM_KIND, RESOURCE_GROUP_KIND
from justlane.platforms import plain_grants
from justlane.platforms.abilities import EVERY_MEANS, Abilities, Beyond, Settings
from justlane.platforms.computed import NONE, Outcome, Rights, in_names, lines_at, members_of, outcomes
from justlane.platforms.entries import texts
from justlane.platforms.interface import About, Declared, Dialect, Entry, Part, Reading, Sort, Step

READ, WRITE = "read", "write"
_LEVELS = (frozenset((READ, WRITE)), frozenset((READ,)), frozenset((WRITE,)))
_SAID = {_LEVELS[0]: "rw", _LEVELS[1]: "r", _LEVELS[2]: "w", NONE: ""}
_NAME = re.compile(r"^[^\s@&~$*\[\]=,#:;%](?:[^=,:%\r\n\[\]]*[^\s=,:%\[\]])?$")
"""What can stand before `=`, and in a list of members: the file has no quoting."""
_NO_PATH = re.compile(r"[\]\r\n]|^\s|\s$")


SORTS = {"groups": Sort("group", "groups", members=True), "rules": Sort("line", "lines")}


class SubversionDialect(Dialect):
    """Groups, and lines under paths."""

    parts = ("groups", "rules")
    sorts = SORTS
    everybody_signs_in = False
    settings = Settings(("file",), ("url", "repository", "passwords from", "scratch"))
    abilities = Abilities(
        implies=((WRITE, READ),),
        habits=frozenset(("unbound", "sign-in", "on the way", "publication")),
        conditions=frozenset(),
        means=EVERY_MEANS - {"resource groups"},
        actions=((READ, ()), (WRITE, ())),
    )

    def declared(self, index: EstateIndex, platform: str, moment: datetime) -> Declared:
        """A section for each path where the outcome is another than around it."""
        prepared = index.platform(platform)
        members = dict(members_of(index, platform, moment))
        found = outcomes(index, platform, moment)
        rules: Part = {}
        lines: dict[tuple[str, str], tuple[Source, ...]] = {}
        groups: set[str] = set()
        for address, outcome in found.items():
            above = found.get(address.rpartition("/")[0])
            if above == outcome or (above is None and not any(outcome)):
                continue
            for to, rights in _section(outcome, members).items():
                name = f"{path_of(address)} {to}"
                rules[name] = {"path": path_of(address), "to": to, "rights": rights}
                whom = f"group {to[1:]}" if to.startswith("@") else f"user {to}"
                lines["rules", name] = lines_at(prepared, address, whom)
                groups |= {to[1:]} if to.startswith("@") else set()
        held: Part = {name: {"members": sorted(members[name])} for name in sorted(groups)}
        return Declared({"groups": held, "rules": rules}, lines)

    def as_read(self, index: EstateIndex, platform: str, reading: Reading) -> Estate:
        """The nearest path decides, and all lines there together."""
        members = {
            name: [Principal(PrincipalKind.USER, m) for m in texts(entry.get("members"))]
            for name, entry in reading.part("groups").items()
        }
        named = [str(entry.get("to")) for entry in reading.part("rules").values()]
        users = {to for to in named if _NAME.match(to)} | {m.name for some in members.values() for m in some}
        everybody = {login for login, user in index.estate.directory.users.items() if user.enabled}
        directory = plain_grants.directory_of(users | everybody, members)
        return plain_grants.estate_of(index, platform, directory, _given(platform, reading), Decides.NEAREST)

    def words(self, part: str, name: str, entry: Entry) -> str:
        """As the file says it."""
        if part == "groups":
            return f"group {name} of {len(texts(entry.get('members')))}"
        return f"[{entry.get('path')}] {entry.get('to')} = {entry.get('rights')}".rstrip()

    def about(self, platform: str, part: str, name: str, entry: Entry) -> About:
        """The path of a line, and whom it is for."""
        if part == "groups":
            return About()
        path, to = str(entry.get("path")), principals_of(str(entry.get("to")))
        return About(platform if path == "/" else platform + path, principal=to[0] if to else ANONYMOUS)

    def strokes(self, reading: Reading, steps: tuple[Step, ...]) -> tuple[tuple[Step, ...], ...]:
        """The file is replaced in one step."""
        return (steps,) if steps else ()

    def unjudged(self, index: EstateIndex, platform: str, reading: Reading) -> tuple[str, ...]:
        """Patterns of paths, negations and aliases."""
        return tuple(str(entry.get("says")) for entry in reading.part("unjudged").values())

    def uncounted(self, index: EstateIndex, platform: str, reading: Reading, part: str, entry: Entry) -> str:
        """Lines for aliases and negations, and groups that hold such."""
        to = str(entry.get("to"))
        if part == "groups":
            return "not judged: it holds an alias" if entry.get("unknown") else ""
        return "" if principals_of(to) else f"not judged: {to} is an alias or a negation"

    def alike(self, part: str, held: Entry | None, wanted: Entry | None) -> bool:
        """A group that counts elsewhere too, or nowhere, stays, whoever names it here."""
        if part != "groups" or held == wanted:
            return held == wanted
        if held is None or wanted is None:
            one = held or wanted or {}
            return bool(one.get("elsewhere") or one.get("unused"))
        return held.get("members") == wanted.get("members") and not held.get("unknown")

    def remarks(self, reading: Reading, steps: Sequence[Step]) -> tuple[str, ...]:
        """Who gains or loses what in other repositories, since a group counts there too."""
        said: list[str] = []
        for step in steps:
            where = texts((step.before or {}).get("elsewhere"))
            if step.part == "groups" and where:
                was, now = (set(texts((entry or {}).get("members"))) for entry in (step.before, step.after))
                moved = [
                    f"{verb} {', '.join(sorted(some))}"
                    for verb, some in (("gain", now - was), ("lose", was - now))
                    if some
                ]
                said.append(f"group {step.name} counts in {', '.join(where)} too, where it will {' and '.join(moved)}")
        return tuple(said)

    def new_places(self, index: EstateIndex, platform: str, reading: Reading) -> dict[str, str]:
        """Paths for which there are rules, and those above them."""
        known = index.platform(platform).platform.scopes
        kinds = [scope.kind for scope in known.values() if scope.kind not in (PLATFORM_KIND, RESOURCE_GROUP_KIND)]
        found: dict[str, str] = {}
        for path in sorted({str(entry.get("path")) for entry in reading.part("rules").values()} - {"/"}):
            names = path.strip("/").split("/")
            for count in range(1, len(names) + 1):
                address = "/".join((platform, *names[:count]))
                if address not in known and all(names):
                    found[address] = kinds[0] if kinds else "folder"
        return found

    def more_beyond(self, index: EstateIndex, platform: str) -> Iterator[Beyond]:
        """Names and paths that such a file cannot hold; writing where nothing may be read."""
        now = datetime.now(UTC)
        prepared = index.platform(platform)
        for scope in prepared.platform.scopes.values():
            if _NO_PATH.search(scope.address):
                message = f"a subversion platform cannot express the path {path_of(scope.address)!r}"
                yield Beyond(
                    scope.source, message, "paths without ] and without spaces at their ends only", (scope.address,)
                )
        named = {b.principal: b.source for b in prepared.bindings}
        for principal, source in named.items():
            people = plain_grants.people_behind(index, [principal], now)
            groups = [principal.name] if principal.name else []
            for name in dict.fromkeys((*groups, *people)):
                if not _NAME.match(name):
                    message = f"a subversion platform cannot express the name {name!r}"
                    yield Beyond(source, message, "names without = , : % @ & ~ $ [ ] only", (name,))
        yield from _writing_unread(index, platform, now)


def _writing_unread(index: EstateIndex, platform: str, now: datetime) -> Iterator[Beyond]:
    """Places where somebody could write and not read, which the server's own check refuses."""
    prepared = index.platform(platform)
    plain = all(b.allows for b in prepared.bindings) and not prepared.platform.ceilings
    for address, outcome in outcomes(index, platform, now).items() if not plain else ():
        some = sorted(login for login, rights in outcome.people.items() if WRITE in rights and READ not in rights)
        some += ["whoever has not signed in"] if WRITE in outcome.anonymous and READ not in outcome.anonymous else []
        if some:
            message = (
                f"a subversion platform cannot express writing without reading, for {some_of(some, 3)} at {address}"
            )
            hint = "deny the writing too, or leave the reading"
            yield Beyond(lines_at(prepared, address)[0], message, hint, (address, *some[:1]))


def path_of(address: str) -> str:
    """The path of a place: `/` for the platform itself."""
    return "/" + address.partition("/")[2]


def _section(outcome: Outcome, members: dict[str, set[str]]) -> dict[str, str]:
    """The lines of one path."""
    found = in_names(outcome.people, members, _LEVELS)
    said = {f"@{name}": _SAID[rights] for name, rights in found.groups.items()}
    said |= {login: _SAID[rights] for login, rights in found.people.items()}
    if outcome.anonymous:
        said["$anonymous"] = _SAID[outcome.anonymous]
    return {**said, "*": ""}


def _given(platform: str, reading: Reading) -> Iterator[tuple[Principal, frozenset[str], str, bool]]:
    for entry in reading.part("rules").values():
        path, rights = str(entry.get("path")), str(entry.get("rights"))
        address = platform if path == "/" else platform + path
        actions: Rights = frozenset(action for letter, action in (("r", READ), ("w", WRITE)) if letter in rights)
        for principal in principals_of(str(entry.get("to"))):
            yield principal, actions, address, False


def principals_of(to: str) -> tuple[Principal, ...]:
    """Whom a line is for, in our words; none for what we do not know."""
    if to in ("*", "$authenticated", "$anonymous"):
        return {"*": (AUTHENTICATED, ANONYMOUS), "$authenticated": (AUTHENTICATED,), "$anonymous": (ANONYMOUS,)}[to]
    if to.startswith("@"):
        return (Principal(PrincipalKind.GROUP, to[1:]),)
    return (Principal(PrincipalKind.USER, to),) if _NAME.match(to) else ()


DIALECT = SubversionDialect()
