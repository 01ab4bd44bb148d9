"""What a person names at the prompt: principals, groups, days, reasons."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

from justlane.cli.common import options
from justlane.engine.facts.index import EstateIndex
from justlane.model.errors import UsageError
from justlane.model.names import did_you_mean
from justlane.model.people import Principal, PrincipalKind

_EVERYBODY = ("everybody", "everyone", "all", "anybody", "anyone", "*")


def reason_of(text: str) -> str:
    """A reason that was given with `--because`."""
    if not text.strip():
        raise UsageError("--because: found nothing, expected a reason", "say why, for whoever inherits the estate")
    return text.strip()


def principal_named(index: EstateIndex, text: str, platforms: Sequence[str], option: str = "--to") -> Principal:
    """What a person says: `group crew`, or just `crew` where one thing alone has that name."""
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
    """A day, as the files say it; empty if none was named."""
    if not text:
        return ""
    from datetime import date

    try:
        return date.fromisoformat(text).isoformat()
    except ValueError:
        raise UsageError(f"{option}: found {text!r}, expected a day", "write it like 2027-03-31") from None


def known_group(index: EstateIndex, name: str, platform: str | None) -> tuple[str, str]:
    """The platform and the name of a local group: `NAME`, or `PLATFORM/NAME`."""
    name = " ".join(name.split()).removeprefix(f"{PrincipalKind.LOCAL_GROUP} ")
    where, _, own = name.rpartition("/")
    platforms = [options.known_platform(index.estate, platform or where)] if platform or where else None
    known = index.estate.platforms
    found = [p for p in platforms or known if own in known[p].local_groups]
    if len(found) > 1:
        raise UsageError(f"{' and '.join(found)} each have a local group {own!r}", f"name one: {found[0]}/{own}")
    if not found:
        every = {group: 0 for p in platforms or known for group in known[p].local_groups}
        raise UsageError(f"there is no local group {own!r}", did_you_mean(own, every, "no platform has one"))
    return found[0], own
