"""Whose the accounts of a platform are: what is said, what the rule gives, and what can be guessed of the rest. Pure.

A guess is never taken for an answer: it is shown with its reason, and a person says yes.
"""

from __future__ import annotations

import re
import unicodedata
from collections import Counter, defaultdict
from collections.abc import Iterable, Iterator, Mapping
from enum import StrEnum

from msgspec import Struct

from justlane.engine.facts.account_names import in_accounts
from justlane.engine.facts.index import EstateIndex
from justlane.model.accounts import AccountKind, Accounts
from justlane.model.people import PrincipalKind, User
from justlane.platforms.interface import Dialect, Reading, dialect_of

_MOST_GUESSES = 3
_SHORTEST = 5
"""Names of fewer letters are one letter apart from too many others."""
_MARKS = ("administrator", "admin", "adm", "test", "priv", "a", "x")
"""What second accounts carry before or behind the name, the longest first."""
_SPELT = str.maketrans({"ä": "ae", "ö": "oe", "ü": "ue", "ß": "ss", "ø": "oe", "æ": "ae", "å": "aa"})


class Standing(StrEnum):
    """What is known of an account."""

    UNKNOWN = "unknown"
    SAID = "said"
    """It has a line of its own."""
    BY_RULE = "by rule"


class Guess(Struct, frozen=True):
    """Whose it might be."""

    who: str
    """As the estate would say it: `user LOGIN`, `also user LOGIN`."""
    reason: str


class AccountThere(Struct, frozen=True):
    """One account of a platform."""

    name: str
    standing: Standing
    whose: str
    """As the estate says it: `user LOGIN`, `also user LOGIN`, `machine of group NAME`, `gone`; empty if unknown."""
    given: int
    """How many entries of the platform name it."""
    guesses: tuple[Guess, ...] = ()
    """The likeliest first."""


class AccountsThere(Struct, frozen=True):
    """All accounts of a platform, those of nobody known first, then by what they are given."""

    platform: str
    accounts: tuple[AccountThere, ...]


def accounts_there(index: EstateIndex, platform: str, reading: Reading) -> AccountsThere:
    """Every account that a platform has, or gives something to, with whose it is."""
    there = in_accounts(index, platform)
    declared = index.estate.platforms[platform].accounts
    known, dialect = there.estate.platforms[platform].accounts, dialect_of(index.estate.platforms[platform])
    given = _given(dialect, platform, reading)
    users = there.estate.directory.users
    unknown = [name for name in given if name not in users and not (declared and name in declared.known)]
    guessing = _Guessing(index.estate.directory.users, _taken(known, given, users)) if unknown else None
    found = []
    for name, times in given.items():
        if declared and name in declared.known:
            found.append(AccountThere(name, Standing.SAID, declared.known[name].said, times))
        elif name in users:
            login = known.login(name) if known else name
            found.append(AccountThere(name, Standing.BY_RULE, f"user {login}", times))
        else:
            guesses = tuple(guessing.guesses(name)) if guessing else ()
            found.append(AccountThere(name, Standing.UNKNOWN, "", times, guesses))
    found.sort(key=lambda one: (list(Standing).index(one.standing), -one.given, one.name))
    return AccountsThere(platform, tuple(found))


def _given(dialect: Dialect, platform: str, reading: Reading) -> Mapping[str, int]:
    """Each account with how often something names it."""
    found: Counter[str] = Counter()
    for part, entries in reading.parts.items():
        own = dialect.sort(part).accounts
        for name, entry in entries.items():
            whom = dialect.about(platform, part, name, entry).principal
            if whom is not None and whom.kind is PrincipalKind.USER:
                found[whom.name] += 0 if own else 1
    return found


def _taken(known: Accounts | None, given: Iterable[str], users: Mapping[str, User]) -> frozenset[str]:
    """Logins of those who have an account of their own there."""
    return frozenset(known.login(name) if known else name for name in given if name in users)


def bare(name: str) -> str:
    """A name without signs, accents and capitals, as most systems would spell it."""
    spelt = unicodedata.normalize("NFKD", name.casefold().translate(_SPELT))
    return re.sub(r"[^a-z0-9]", "", spelt)


class _Guessing:
    """Guesses among the people of a directory."""

    def __init__(self, users: Mapping[str, User], taken: frozenset[str]) -> None:
        self._taken = taken
        self._known: dict[str, dict[str, str]] = defaultdict(dict)
        """Bare name -> login -> why."""
        self._near: dict[str, set[str]] = defaultdict(set)
        """Bare login with a letter left out, or none -> logins."""
        for login, user in users.items():
            for form, reason in _forms(user):
                self._known[form].setdefault(login, reason)
            whole = bare(login)
            if len(whole) >= _SHORTEST:
                for form in _shorter(whole):
                    self._near[form].add(login)

    def guesses(self, account: str) -> list[Guess]:
        """The likeliest first; none of several that are as likely is better than the others."""
        before = account.partition("@")[0]
        found: dict[str, Guess] = {}
        for name, said in ((account, ""), (before, ", before the @")):
            for login, reason in self._known.get(bare(name), {}).items():
                found.setdefault(login, self._guess(login, reason + said))
        whole = bare(before)
        for mark in _MARKS:
            for rest in (whole.removeprefix(mark), whole.removesuffix(mark)):
                if rest != whole and len(rest) >= _SHORTEST - 1:
                    for login, reason in self._known.get(rest, {}).items():
                        found.setdefault(login, self._guess(login, f"{reason}, with {mark!r}", also=True))
        if len(whole) >= _SHORTEST:
            for form in _shorter(whole):
                for login in sorted(self._near.get(form, ())):
                    if _apart(whole, bare(login)) <= 1:
                        found.setdefault(login, self._guess(login, "one letter apart from the login"))
        return list(found.values())[:_MOST_GUESSES]

    def _guess(self, login: str, reason: str, *, also: bool = False) -> Guess:
        kind = AccountKind.ALSO if also or login in self._taken else AccountKind.OWN
        return Guess(f"{kind} {login}", reason)


def _forms(user: User) -> Iterator[tuple[str, str]]:
    """How systems call somebody, each with what it is."""
    yield bare(user.login), "the login, spelt otherwise"
    yield bare(user.login.partition("@")[0]), "the login, before the @"
    yield bare(user.name), "the name, spelt otherwise"
    words = [bare(word) for word in re.split(r"[\s._-]+", user.name) if bare(word)]
    if len(words) < 2:
        words = [bare(word) for word in re.split(r"[._-]+", user.login) if bare(word)]
    if len(words) >= 2:
        first, last = words[0], words[-1]
        yield last + first, "the name, the last first"
        yield first[0] + last, "a first letter and the last name"
        yield last + first[0], "the last name and a first letter"
        yield first + last[0], "the first name and a letter of the last"
        yield first + last, "first and last name"
    if user.id:
        yield bare(user.id), "what never changes in the directory"


def _shorter(word: str) -> set[str]:
    return {word, *(word[:n] + word[n + 1 :] for n in range(len(word)))}


def _apart(one: str, other: str) -> int:
    """How many letters have to change, go or come; more than one is told as two."""
    if one == other:
        return 0
    short, long = sorted((one, other), key=len)
    at = next((n for n, (a, b) in enumerate(zip(short, long, strict=False)) if a != b), len(short))
    if len(short) == len(long):
        swapped = short[at + 1 : at + 2] + short[at : at + 1] + short[at + 2 :]
        return 1 if short[at + 1 :] == long[at + 1 :] or swapped == long[at:] else 2
    return 1 if len(long) - len(short) == 1 and short[at:] == long[at + 1 :] else 2
