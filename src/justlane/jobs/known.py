"""What a person names: whoever, whatever or wherever the estate does not know is answered with the nearest real name.

The errors speak in the words of the command line, where most of them are read.
"""

from __future__ import annotations

from collections.abc import Collection, Iterable, Mapping, Sequence
from typing import Any

from justlane.engine.facts.index import EstateIndex
from justlane.engine.facts.people import ANONYMOUS_NAME
from justlane.model.errors import UsageError
from justlane.model.estate import Estate, Platform
from justlane.model.names import did_you_mean
from justlane.model.patterns import matching
from justlane.model.people import Principal, PrincipalKind
from justlane.model.scopes import platform_of

_EVERYBODY = ("everybody", "everyone", "all", "anybody", "anyone", "*")


def user(estate: Estate, login: str) -> str:
    """A login that the directory has, or `anonymous`."""
    if login == ANONYMOUS_NAME:
        return login
    people = estate.people
    if people is None or login in estate.directory.users:
        return _one_of(login, estate.directory.users, "the directory has no user")
    from justlane.engine.facts.clock import on_clock

    read = f"{on_clock(people.taken, estate.time_zone):%Y-%m-%d at %H:%M}"
    otherwise = f"nobody like that was there on {read}; for somebody new: justlane people pull"
    return _one_of(login, estate.directory.users, "the directory has no user", otherwise)


def scope(estate: Estate, address: str) -> str:
    """An address that a platform declares."""
    address = address.strip("/")
    name = platform_of(address)
    _one_of(name, estate.platforms, "there is no platform")
    return _one_of(address, estate.platforms[name].scopes, "there is no scope")


def action(estate: Estate, action: str, address: str) -> str:
    """An action of the platform that an address belongs to."""
    platform = estate.platforms[platform_of(address)]
    return _one_of(action, platform.actions, f"{platform.name} has no action")


def actions(
    estate: Estate, pattern: str, platforms: Collection[str], what: str = "--action: there is no action"
) -> str:
    """An action, or a pattern with `*` that some action of these platforms is like."""
    known = dict.fromkeys(action for name in platforms for action in estate.platforms[name].actions)
    if not matching(pattern, known):
        _one_of(pattern, known, what)
    return pattern


def actions_of(platform: Platform, pattern: str) -> str:
    """An action of a platform, or a pattern that some are like."""
    if not matching(pattern, platform.actions):
        _one_of(pattern, platform.actions, f"{platform.name} has no action")
    return pattern


def role(estate: Estate, name: str, platform: str) -> str:
    """A role of a platform."""
    return _one_of(name, estate.platforms[platform].roles, f"{platform} has no role")


def platform_with(estate: Estate, what: str, name: str, platform: str | None) -> str:
    """The platform that was named, or the only one that has an `action` or a `role` of a name. UsageError if none has
    it, or several have."""
    named = {p.name: p.roles if what == "role" else p.actions for p in estate.platforms.values()}
    if platform is not None:
        known = platform_named(estate, platform)
        _one_of(name, named[known], f"{known} has no {what}")
        return known
    found = [known for known, names in named.items() if name in names]
    if not found and what == "action" and any(name in p.roles for p in estate.platforms.values()):
        raise UsageError(f"there is no action {name!r}", "there is a role of that name: add --role")
    if not found:
        _one_of(name, {one: 0 for names in named.values() for one in names}, f"there is no {what}")
    if len(found) > 1:
        raise UsageError(f"{', '.join(found)} have the {what} {name!r}", "name a scope, or the platform with --on")
    return found[0]


def unknown_name(estate: Estate, name: str) -> UsageError:
    """That there is no user, group or local group of a name; or that several platforms have such a local group."""
    own = [p.name for p in estate.platforms.values() if name in p.local_groups]
    if own:
        message = f"{' and '.join(own)} each have a local group {name!r}"
        return UsageError(message, f"name one of them, such as {own[0]}/{name}")
    local = [group for p in estate.platforms.values() for group in p.local_groups]
    known = [*estate.directory.users, *estate.directory.groups, *local]
    return UsageError(f"there is no user and no group {name!r}", did_you_mean(name, known))


def platform_named(estate: Estate, name: str) -> str:
    """A platform that the estate declares."""
    return _one_of(name, estate.platforms, "there is no platform")


def _one_of(name: str, names: Mapping[str, object], what: str, otherwise: str = "") -> str:
    if name in names:
        return name
    some = ", ".join(list(names)[:8]) + (", …" if len(names) > 8 else "")
    otherwise = otherwise or (f"there are: {some}" if names else "")
    raise UsageError(f"{what} {name!r}", did_you_mean(name, names, otherwise))


def nearest(name: str, names: Iterable[str]) -> str:
    """The hint for a word that there is not: the nearest one that there is."""
    known = list(names)
    return did_you_mean(name, known, f"there are: {', '.join(known)}")


def reason_of(text: str) -> str:
    """A reason that was given with `--because`. UsageError if it says nothing."""
    if not text.strip():
        raise UsageError("--because: found nothing, expected a reason", "say why, for whoever inherits the estate")
    return text.strip()


def principal_named(index: EstateIndex, text: str, platforms: Sequence[str], option: str = "--to") -> Principal:
    """What a person says: `group crew`, or just `crew` where one thing alone has that name. UsageError if nobody, or
    more than one, is called that."""
    text = " ".join(text.split())
    for kind in sorted(PrincipalKind, key=len, reverse=True):
        if text == kind and kind in (PrincipalKind.AUTHENTICATED, PrincipalKind.ANONYMOUS):
            return Principal(kind)
        if text.startswith(f"{kind} "):
            return _known(index, Principal(kind, text.removeprefix(f"{kind} ")), platforms, option)
    people = index.estate.directory
    local = any(text in index.estate.platforms[name].local_groups for name in platforms)
    found = [
        Principal(kind, text)
        for kind, there in (
            (PrincipalKind.GROUP, text in people.groups),
            (PrincipalKind.USER, text in people.users),
            (PrincipalKind.LOCAL_GROUP, local),
        )
        if there
    ]
    if len(found) > 1:
        kinds = " and ".join(f"a {principal.kind}" for principal in found)
        raise UsageError(f"{option}: there is {kinds} named {text!r}", f"say which: '{found[0]}'")
    if not found and text in _EVERYBODY:
        hint = "say authenticated (who has signed in), anonymous (who has not), or both: --to twice"
        raise UsageError(f"{option}: {text!r} stands for nobody by itself", hint)
    if not found:
        names = [*people.groups, *people.users]
        raise UsageError(f"{option}: there is no group and no user {text!r}", did_you_mean(text, names))
    return found[0]


def _known(index: EstateIndex, principal: Principal, platforms: Sequence[str], option: str) -> Principal:
    people = index.estate.directory
    known: Any = {
        PrincipalKind.GROUP: people.groups,
        PrincipalKind.USER: people.users,
        PrincipalKind.LOCAL_GROUP: {g: 0 for name in platforms for g in index.estate.platforms[name].local_groups},
    }[principal.kind]
    if principal.name not in known:
        raise UsageError(
            f"{option}: there is no {principal.kind} {principal.name!r}", did_you_mean(principal.name, known)
        )
    return principal


def day_of(option: str, text: str | None) -> str:
    """A day, as the files say it; empty if none was named. UsageError if it is none."""
    if not text:
        return ""
    from datetime import date

    try:
        return date.fromisoformat(text).isoformat()
    except ValueError:
        raise UsageError(f"{option}: found {text!r}, expected a day", "write it like 2027-03-31") from None


def group(index: EstateIndex, name: str, platform: str | None) -> tuple[str, str]:
    """The platform and the name of a local group: `NAME`, or `PLATFORM/NAME`. UsageError if no platform has it, or
    several have."""
    name = " ".join(name.split()).removeprefix(f"{PrincipalKind.LOCAL_GROUP} ")
    where, _, own = name.rpartition("/")
    platforms = [platform_named(index.estate, platform or where)] if platform or where else None
    known = index.estate.platforms
    found = [p for p in platforms or known if own in known[p].local_groups]
    if len(found) > 1:
        raise UsageError(f"{' and '.join(found)} each have a local group {own!r}", f"name one: {found[0]}/{own}")
    if not found:
        every = {group: 0 for p in platforms or known for group in known[p].local_groups}
        raise UsageError(f"there is no local group {own!r}", did_you_mean(own, every, "no platform has one"))
    return found[0], own
