"""Options that several commands share, and the estate that they name."""

from __future__ import annotations

import os
from collections.abc import Callable, Collection, Mapping
from datetime import UTC, datetime
from pathlib import Path
from typing import TypeVar

import click

from justlane.cli.common.terminal import say, warn
from justlane.directories.interface import read_people
from justlane.engine.facts.index import EstateIndex
from justlane.engine.facts.people import ANONYMOUS_NAME
from justlane.files.opening.open_index import open_estate, open_index, open_people
from justlane.files.reading.folder import find_root, holds_root
from justlane.model.errors import UsageError
from justlane.model.estate import Estate, Platform
from justlane.model.patterns import matching
from justlane.model.people import Snapshot
from justlane.model.scopes import platform_of
from justlane.reports.interface import FORMATS

Command = TypeVar("Command", bound=Callable[..., object])

estate_option = click.option(
    "--estate",
    "folder",
    type=click.Path(path_type=Path),
    metavar="FOLDER",
    envvar="JUSTLANE_ESTATE",
    help="The estate's folder; otherwise the current folder or one above it.",
)


def format_option(*forms: str) -> Callable[[Command], Command]:
    """`--format`, with the formats that make sense for the command; the first is what a person reads."""
    assert set(forms) <= set(FORMATS)
    return click.option(
        "--format",
        "form",
        type=click.Choice(forms),
        default=forms[0],
        show_default=True,
        help="How to write the result.",
    )


platform_option = click.option("--on", "platform", metavar="PLATFORM", help="Where several platforms have it.")

as_of_option = click.option(
    "--as-of",
    metavar="WHEN",
    help="As it was then: a day, a time or a snapshot; from snapshots, the journal and git.",
)


def top_and_name(path: Path) -> tuple[Path, Path]:
    """Where a path that the person typed starts, and its name from there: of one that leads down from here, no step is
    followed if it is a link, since an estate may have put it here."""
    down = not path.is_absolute() and ".." not in path.parts
    return (Path(), path) if down else (path.parent, Path(path.name))


def folder_of(folder: Path | None) -> Path:
    """The estate's folder, from the option or from where we are."""
    if folder is None:
        try:
            return find_root(Path.cwd())
        except OSError as error:
            message = f"the current folder cannot be used: {error.strerror}"
            raise UsageError(message, "go to a folder that exists, or name one with --estate FOLDER") from error
    if not os.path.isdir(folder):
        raise UsageError(f"--estate: there is no folder {str(folder)!r}", "name the folder that holds estate.yaml")
    if not holds_root(folder):
        raise UsageError(f"--estate: {str(folder)!r} holds no estate.yaml", "name the folder that holds estate.yaml")
    return folder


def opened(folder: Path | None) -> Estate:
    """The estate, read and sound."""
    estate = open_estate(folder_of(folder), read_people)
    mind_age(estate.people, estate.pull_every)
    return estate


def indexed(folder: Path | None, as_of: str | None = None) -> EstateIndex:
    """The estate, sound and ready for questions, perhaps with the people of an earlier time."""
    place = folder_of(folder)
    if as_of is None:
        index = open_index(place, read_people)
        mind_age(index.estate.people, index.estate.pull_every)
        return index
    from justlane.engine.facts.earlier_names import called_today
    from justlane.files.history.past import as_it_was
    from justlane.files.people import snapshots

    past = as_it_was(place, as_of, read_people)
    say(f"as of {as_of}: {'; '.join(past.told)}")
    if past.estate is not None:
        return past.estate
    then = snapshots.open_snapshot(place, past.snapshot)
    aliases = snapshots.aliases(then, open_people(place, read_people).store)
    people = called_today(then.directory(), then.groups_with, aliases, then.numbered)
    index = open_index(place, read_people, earlier=[people.directory])
    return index.with_people(people, then.snapshot)


def mind_age(people: Snapshot | None, pull_every: int) -> None:
    """Say so on standard error if the people are older than the estate allows, in seconds."""
    if people is None or not people.name or all(source.files for source in people.sources):
        return  # files are read whenever they changed
    age = (datetime.now(UTC) - people.taken).total_seconds()
    if age > pull_every:
        from justlane.reports.text.spans import age_text

        warn(f"the people are as of {age_text(age)} ago, older than the estate allows: justlane people pull")


def known_user(estate: Estate, login: str) -> str:
    """A login that the directory has, or `anonymous`."""
    if login == ANONYMOUS_NAME:
        return login
    people = estate.people
    if people is None or login in estate.directory.users:
        return _known(login, estate.directory.users, "the directory has no user")
    from justlane.engine.facts.clock import on_clock

    read = f"{on_clock(people.taken, estate.time_zone):%Y-%m-%d at %H:%M}"
    otherwise = f"nobody like that was there on {read}; for somebody new: justlane people pull"
    return _known(login, estate.directory.users, "the directory has no user", otherwise)


def known_scope(estate: Estate, address: str) -> str:
    """An address that a platform declares."""
    address = address.strip("/")
    name = platform_of(address)
    _known(name, estate.platforms, "there is no platform")
    return _known(address, estate.platforms[name].scopes, "there is no scope")


def known_action(estate: Estate, action: str, address: str) -> str:
    """An action of the platform that an address belongs to."""
    platform = estate.platforms[platform_of(address)]
    return _known(action, platform.actions, f"{platform.name} has no action")


def known_actions(
    estate: Estate, pattern: str, platforms: Collection[str], what: str = "--action: there is no action"
) -> str:
    """An action, or a pattern with `*` that some action of these platforms is like."""
    known = dict.fromkeys(action for name in platforms for action in estate.platforms[name].actions)
    if not matching(pattern, known):
        _known(pattern, known, what)
    return pattern


def known_actions_of(platform: Platform, pattern: str) -> str:
    """An action of a platform, or a pattern that some are like."""
    if not matching(pattern, platform.actions):
        _known(pattern, platform.actions, f"{platform.name} has no action")
    return pattern


def known_role(estate: Estate, name: str, platform: str) -> str:
    """A role of a platform."""
    return _known(name, estate.platforms[platform].roles, f"{platform} has no role")


def platform_with(estate: Estate, what: str, name: str, platform: str | None) -> str:
    """The platform that was named, or the only one that has an `action` or a `role` of a name."""
    named = {p.name: p.roles if what == "role" else p.actions for p in estate.platforms.values()}
    if platform is not None:
        known = known_platform(estate, platform)
        _known(name, named[known], f"{known} has no {what}")
        return known
    found = [known for known, names in named.items() if name in names]
    if not found and what == "action" and any(name in p.roles for p in estate.platforms.values()):
        raise UsageError(f"there is no action {name!r}", "there is a role of that name: add --role")
    if not found:
        _known(name, {one: 0 for names in named.values() for one in names}, f"there is no {what}")
    if len(found) > 1:
        raise UsageError(f"{', '.join(found)} have the {what} {name!r}", "name a scope, or the platform with --on")
    return found[0]


def unknown_name(estate: Estate, name: str) -> UsageError:
    """That there is no user, group or local group of a name; or that several platforms have such a local group."""
    own = [p.name for p in estate.platforms.values() if name in p.local_groups]
    if own:
        message = f"{' and '.join(own)} each have a local group {name!r}"
        return UsageError(message, f"name one of them, such as {own[0]}/{name}")
    from justlane.model.names import did_you_mean

    local = [group for p in estate.platforms.values() for group in p.local_groups]
    known = [*estate.directory.users, *estate.directory.groups, *local]
    return UsageError(f"there is no user and no group {name!r}", did_you_mean(name, known))


def known_platform(estate: Estate, name: str) -> str:
    """A platform that the estate declares."""
    return _known(name, estate.platforms, "there is no platform")


def _known(name: str, names: Mapping[str, object], what: str, otherwise: str = "") -> str:
    if name in names:
        return name
    from justlane.model.names import did_you_mean

    some = ", ".join(list(names)[:8]) + (", …" if len(names) > 8 else "")
    otherwise = otherwise or (f"there are: {some}" if names else "")
    raise UsageError(f"{what} {name!r}", did_you_mean(name, names, otherwise))
