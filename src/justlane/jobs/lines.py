"""Lines among the bindings, said in words: what is given or denied to whom, and what is taken back."""

from __future__ import annotations

from collections.abc import Sequence

from msgspec import Struct

from justlane.engine.changes.remarks import Remark, about_given, said_already
from justlane.engine.facts.index import EstateIndex, PlatformIndex
from justlane.engine.facts.people import with_local_groups
from justlane.engine.surveys.delegates import confined_to
from justlane.files.building.bindings import BUNDLE
from justlane.files.editing import bindings
from justlane.files.editing.bindings import NewLine, Spot, Taking
from justlane.files.editing.conditions import condition_in
from justlane.files.editing.habits import close
from justlane.files.reading.folder import ROOT
from justlane.files.saving.proposal import About
from justlane.jobs import known
from justlane.jobs.edits import Editing
from justlane.model.bindings import Binding
from justlane.model.errors import RefusedError, UsageError
from justlane.model.findings import Source
from justlane.model.names import did_you_mean
from justlane.model.patterns import ANY
from justlane.model.people import AUTHENTICATED, Principal, PrincipalKind
from justlane.model.scopes import contains, platform_of
from justlane.model.shell import spelt


class Said(Struct, frozen=True):
    """A new line, in the words of `give`."""

    roles: tuple[str, ...]
    """Roles, or `bundle NAME`."""
    to: tuple[str, ...]
    """`group NAME`, `user NAME`, `local group NAME`, `authenticated` or `anonymous`."""
    at: tuple[str, ...]
    """Addresses, or patterns."""
    because: str
    here_only: bool = False
    when: tuple[str, ...] = ()
    """Conditions, such as `multi-factor yes`."""
    first_day: str | None = None
    """YYYY-MM-DD."""
    last_day: str | None = None
    into: str = ""
    """In which of the estate's files it stands; empty for beside its likes."""
    before: str | None = None
    """Where the order decides: FILE:LINE of the line that comes next."""
    after: str | None = None
    last: bool = False
    deny: bool = False
    as_account: str = ""
    """Which of the user's accounts has it, if not their own."""


class Taken(Struct, frozen=True):
    """What is taken back, in the words of `withdraw`."""

    roles: tuple[str, ...]
    """Empty for all."""
    to: tuple[str, ...]
    """From whom."""
    at: tuple[str, ...] = ()
    """Empty for all places."""
    built_in: bool = False
    """Also what the platform does by itself."""
    line: str | None = None
    """Only what this line says, FILE:LINE."""


class New(Struct, frozen=True):
    """What a new line is about."""

    reason: str
    names: tuple[str, ...]
    """Whom and what it names."""
    about: About
    """What there is to say about it, given the estate after it."""


def say(editing: Editing, said: Said) -> New:
    """Write a new line into the draft. UsageError for a name that is not there, or where its place is not clear."""
    index = editing.index
    at = tuple(_place(index, address) for address in said.at)
    roles = _roles(index, said.roles, at)
    to = tuple(str(known.principal_named(index, text, _platforms(index, roles, at))) for text in said.to)
    line = NewLine(
        roles, to, known.reason_of(said.because), at, said.deny, said.here_only, condition_in(said.when),
        known.day_of("--from", said.first_day), known.day_of("--until", said.last_day), said.as_account,
    )  # fmt: skip
    platforms = [index.platform(name) for name in _platforms(index, roles, at)]
    confined = confined_to(index, editing.acting, editing.question)
    own = [d for d in confined if all(any(contains(scope, a) for scope in d.scopes) for a in at)]
    file = (own or confined)[0].file if confined else ""
    if said.into:
        file = _file_named(editing, said.into)
    delegated = {d.file for d in index.estate.delegations}
    source = bindings.give(editing.draft, line, platforms, _spot(said, platforms), file, delegated)

    def about(after: EstateIndex) -> list[Remark]:
        there = (b for prepared in platforms for b in after.platform(prepared.platform.name).bindings)
        new = [b for b in there if b.source.line_address == source.line_address]
        same = said_already(index, new)
        if same is not None:
            message = f"{same.source.line_address} says just this already"
            raise RefusedError(message, "nothing was changed; to say more, say what is to be otherwise")
        return list(about_given(index, after, new, editing.question))

    return New(line.because, (*to, *at), about)


def take(editing: Editing, said: Taken) -> tuple[str, ...]:
    """Take out of the lines in the draft what is meant; returns whom and what it names. UsageError where no line says
    it, with what stands in the way."""
    found, taking, closed = _to_be_taken(editing, said)
    platforms = [editing.index.platform(name) for name in editing.index.estate.platforms]
    bindings.withdraw(editing.draft, taking, found, platforms)
    for prepared in closed:
        close(editing.draft, prepared)
    return (*sorted(taking.to), *sorted(taking.at or ()))


def _file_named(editing: Editing, name: str) -> str:
    """A file of the estate that may hold bindings. UsageError for any other."""
    read = [file for file in editing.state if file and file != ROOT]
    if name in read and bindings.may_hold(editing.draft, name):
        return name
    platforms = map(editing.index.platform, editing.index.estate.platforms)
    some = sorted({b.source.file for prepared in platforms for b in prepared.bindings})
    hint = did_you_mean(name, some, f"there are: {', '.join(some)}")
    raise UsageError(f"--into: {name!r} is no file of the estate for bindings", hint)


def _place(index: EstateIndex, address: str) -> str:
    address = address.strip("/")
    if ANY in address:
        known.platform_named(index.estate, platform_of(address))
        return address
    return known.scope(index.estate, address)


def _roles(index: EstateIndex, words: Sequence[str], at: Sequence[str]) -> tuple[str, ...]:
    """Roles of the platforms of some places, or bundles as `bundle NAME`."""
    found: list[str] = []
    waiting = list(words)
    while waiting:
        word = waiting.pop(0)
        if word == BUNDLE.strip() and waiting:
            word = BUNDLE + waiting.pop(0)
        if word.startswith(BUNDLE):
            name = word.removeprefix(BUNDLE).strip()
            if name not in index.estate.bundles:
                hint = did_you_mean(name, index.estate.bundles, "the estate declares none of that name")
                raise UsageError(f"there is no bundle {name!r}", hint)
            found.append(BUNDLE + name)
            continue
        for platform in dict.fromkeys(map(platform_of, at)):
            known.role(index.estate, word, platform)
        found.append(word)
    bundled = [word for word in found if word.startswith(BUNDLE)]
    if bundled and (at or len(bundled) < len(found)):
        raise UsageError("a bundle brings its own places", "give it alone, and without --at")
    if not bundled and not at:
        raise UsageError("--at is missing: a role needs a place", "say where: --at SCOPE")
    return tuple(found)


def _platforms(index: EstateIndex, roles: Sequence[str], at: Sequence[str]) -> list[str]:
    bundled = {name for word in roles if word.startswith(BUNDLE) for name in index.estate.bundles[word[len(BUNDLE) :]]}
    return list(dict.fromkeys([*map(platform_of, at), *sorted(bundled)]))


def _spot(said: Said, platforms: Sequence[PlatformIndex]) -> Spot | None:
    """Where the new line is to stand; None for beside its likes."""
    named = [name for name in ("before", "after", "last") if getattr(said, name)]
    if len(named) > 1:
        raise UsageError(f"--{named[0]} and --{named[1]} cannot both be", "say one place")
    ordered = [prepared for prepared in platforms if prepared.ordered]
    if not named:
        if ordered and any(not b.built_in for b in ordered[0].bindings):
            name = ordered[0].platform.name
            hint = "say where the new line is to stand: --last, --before FILE:LINE or --after FILE:LINE"
            raise UsageError(f"on {name} the order of the lines decides", hint)
        return None
    if said.last:
        return Spot(None)
    return Spot(_line(said.before or said.after or "", platforms), named[0] == "after")


def _line(text: str, platforms: Sequence[PlatformIndex]) -> Source:
    """A line with a binding of one of the platforms, by FILE:LINE, or by its number where they stand in one file."""
    file, _, number = text.rpartition(":")
    found = {b.source for prepared in platforms for b in prepared.bindings if not b.built_in}
    same = [s for s in found if str(s.line) == number and file in ("", s.file)]
    if len(same) != 1:
        some = ", ".join(s.line_address for s in sorted(found)[:8])
        raise UsageError(f"no binding begins at {text!r}", f"name a line with one: {some}" if some else "")
    return same[0]


def _to_be_taken(editing: Editing, said: Taken) -> tuple[list[Binding], Taking, list[PlatformIndex]]:
    """Every binding of the lines from which something is taken, and what; and platforms whose open default is to be
    closed."""
    index = editing.index
    everywhere = list(index.estate.platforms)
    at = frozenset(_place(index, address) for address in said.at) if said.at else None
    platforms = [index.platform(name) for name in dict.fromkeys(map(platform_of, at or everywhere))]
    to = frozenset(str(known.principal_named(index, text, everywhere, "--from")) for text in said.to)
    roles = frozenset(_joined(said.roles))
    found = [b for prepared in platforms for b in bindings.given_by(prepared, roles, to, at)]
    built_in = [b for b in found if b.built_in]
    found = found if said.built_in else [b for b in found if not b.built_in]
    if said.line:
        line = _line(said.line, platforms)
        found = [binding for binding in found if binding.source == line]
    opened = [prepared for prepared in platforms if _is_open_to(prepared, roles, to, at)]
    if not found and not (opened and said.built_in):
        raise UsageError(_nothing(roles, to, at), _hint(editing, platforms, roles, to, at, built_in, opened))
    lines = {binding.source for binding in found}
    every = [b for name in everywhere for b in index.platform(name).bindings if b.source in lines]
    return every, Taking(roles, to, at), opened if said.built_in else []


def _is_open_to(prepared: PlatformIndex, roles: frozenset[str], to: frozenset[str], at: frozenset[str] | None) -> bool:
    """Whether what is meant is the role that everybody has where nobody was given anything."""
    name, opened = prepared.platform.name, prepared.platform.habits.open_role
    asked = not roles or opened in roles
    return bool(opened) and asked and str(AUTHENTICATED) in to and (at is None or name in at)


def _joined(words: Sequence[str]) -> list[str]:
    """`bundle` and a name as one."""
    text = "\0".join(words).replace(f"{BUNDLE.strip()}\0", BUNDLE)
    return [word for word in text.split("\0") if word]


def _nothing(roles: frozenset[str], to: frozenset[str], at: frozenset[str] | None) -> str:
    what = ", ".join(sorted(roles)) or "anything"
    where = f" at {', '.join(sorted(at))}" if at else ""
    return f"no line gives or denies {what} to {', '.join(sorted(to))}{where}"


def _hint(
    editing: Editing,
    platforms: Sequence[PlatformIndex],
    roles: frozenset[str],
    to: frozenset[str],
    at: frozenset[str] | None,
    built_in: Sequence[Binding],
    opened: Sequence[PlatformIndex],
) -> str:
    """What stands in the way: it is built in, a bundle's, given somewhere wider, or to a group that they are in."""
    if built_in:
        line = built_in[0].source.line_address
        return f"{line} says that the platform does so by itself: --built-in takes that out too"
    if opened:
        source = opened[0].platform.habits.lines.get("unbound") or opened[0].platform.source
        return f"it is the open default of {opened[0].platform.name} ({source.line_address}): --built-in closes it"
    covering = [b for prepared in platforms for b in _covering(prepared, at) if not roles or b.role in roles]
    own = [b for b in covering if str(b.principal) in to]
    bundled = next((b for b in own if b.bundle), None)
    if bundled:
        whole = spelt("withdraw", "bundle", bundled.bundle, "--from", str(bundled.principal), "--everywhere")
        return f"it comes with the bundle {bundled.bundle} ({bundled.source.line_address}), as a whole: {whole}"
    if own:
        return f"it is given at {own[0].scope}, in {own[0].source.line_address}: withdraw it there"
    for name in sorted(to):
        through = _through(editing, name, covering)
        if through:
            return through
    return f"`{spelt('given', sorted(to)[0].partition(' ')[2] or sorted(to)[0])}` shows what is given, and through what"


def _covering(prepared: PlatformIndex, at: frozenset[str] | None) -> list[Binding]:
    """What is given at some places, or at any."""
    if at is None:
        return list(prepared.bindings)
    places = [place for place in at if place in prepared.platform.scopes]
    return [b for place in places for b in prepared.covering_bindings(place)]


def _through(editing: Editing, named: str, covering: Sequence[Binding]) -> str:
    """Through which group somebody has it; empty if through none."""
    kind, _, name = named.partition(" ")
    if kind not in (PrincipalKind.USER, PrincipalKind.GROUP):
        return ""
    index, whom = editing.index, Principal(PrincipalKind(kind), name)
    for binding in covering:
        held = with_local_groups(
            index, platform_of(binding.scope), set(index.membership.principals_of(whom)), editing.question.dated
        )
        if binding.principal in held and binding.principal != whom:
            line = binding.source.line_address
            leave = "leaves that" if kind == PrincipalKind.USER else "is taken out of that"
            return f"{named} has it through {binding.principal} ({line}), and keeps it until it {leave}"
    return ""
