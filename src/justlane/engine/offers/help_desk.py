"""An answer for the one who asked: what is missing, which group carries it, whom to ask, what else that would bring.

Nothing in it is what the person may not see: no line of a file, nobody's name but that of whoever answers for the
group, and no place that they do not see today, besides the one that they named.
"""

from __future__ import annotations

from msgspec import Struct

from justlane.engine.changes.effect import changes_by
from justlane.engine.decision.explanation import Failing
from justlane.engine.decision.judge import Question
from justlane.engine.facts.index import EstateIndex
from justlane.engine.facts.people import ANONYMOUS_NAME
from justlane.engine.offers.suggestions import Miss, Reply
from justlane.engine.questions.sight import sight
from justlane.model.edits import Give, Join
from justlane.model.people import Principal, PrincipalKind
from justlane.model.scopes import platform_of, with_containing


class NamedThing(Struct, frozen=True):
    """A name, and what it is for."""

    name: str
    purpose: str


class BroughtActions(Struct, frozen=True):
    """Actions that somebody would gain at one place that they see."""

    scope: str
    actions: tuple[str, ...]


class Way(Struct, frozen=True):
    """How they could come to it."""

    group: NamedThing | None
    """The group that they would join; None if it is not a group that is missing."""
    role: NamedThing | None
    """The role that gives it."""
    owner: NamedThing | None
    """Who answers for the group, or for the place: the login and the name; None if nobody is named."""
    owner_is_group: bool
    owns_group: bool
    """Whether they answer for the group itself, rather than for the place."""
    brings: tuple[BroughtActions, ...]
    """What else they would gain where they see something today."""
    elsewhere: bool
    """Whether they would gain more, at places that they do not see today."""
    sensitive: tuple[str, ...]
    """The sensitive actions among all that they would gain."""


class ForUser(Struct, frozen=True):
    """The answer."""

    reply: Reply
    person: str
    """The name that people know them by."""
    meaning: str
    """What the action means."""
    why: Failing | None
    """Of a no, what fails first."""
    way: Way | None
    """Of a no, how they could come to it; None if that needs more than one change, or none is known."""


def for_user(index: EstateIndex, reply: Reply, question: Question) -> ForUser:
    """The answer for the one who asked."""
    answer = reply.answer
    known = index.estate.directory.users
    person = answer.user if answer.user == ANONYMOUS_NAME else known[answer.user].name or answer.user
    meaning = index.platform(answer.scope).platform.actions[answer.action].meaning
    why = answer.failures[0].failing if answer.failures else None
    edits = [miss for miss in reply.misses if miss.edit is not None]
    named = [miss for miss in edits if isinstance(miss.edit, (Join, Give))]  # in the one order of offers
    best = next(iter(named or edits), None)
    return ForUser(reply, person, meaning, why, _way(index, reply, best, question) if best else None)


def _way(index: EstateIndex, reply: Reply, miss: Miss, question: Question) -> Way | None:
    assert miss.edit is not None
    answer = reply.answer
    prepared = index.platform(answer.scope)
    seen = {*sight(index, answer.user, question).scopes, answer.scope}
    gained: dict[str, list[str]] = {}
    hidden, sensitive = False, dict[str, None]()
    if not isinstance(miss.edit, (Join, Give)):
        return Way(None, None, *_owner_of_place(index, answer.scope), False, (), False, ())
    found = changes_by(index, miss.edit, question)
    own = list(found.logins).index(answer.user) if answer.user in found.logins else -1
    for some in found.found:
        if own in some.users:
            for action, is_sensitive, gains, *_ in some.change:
                if not gains:
                    continue
                sensitive.update(dict.fromkeys([action] if is_sensitive else []))
                asked = answer.action, answer.scope
                shown = [place for place in some.places if place in seen and (action, place) != asked]
                hidden = hidden or any(place not in seen for place in some.places)
                for place in shown:
                    gained.setdefault(place, []).append(action)
    brings = tuple(BroughtActions(place, tuple(sorted(gained[place]))) for place in sorted(gained))
    role = None
    if miss.binding is not None and miss.binding.role in prepared.platform.roles:
        role = NamedThing(miss.binding.role, prepared.platform.roles[miss.binding.role].purpose)
    group, owner, owns_group = None, _owner_of_place(index, answer.scope), False
    if isinstance(miss.edit, Join):
        group = NamedThing(miss.edit.group.name, _purpose(index, miss.edit.group, prepared.platform.name))
        named = index.estate.owners.get(miss.edit.group.name)
        local = miss.edit.group.kind is PrincipalKind.LOCAL_GROUP
        owns_group = named is not None and not local
        owner = _named(index, named) if named and not local else owner
    return Way(group, role, *owner, owns_group, brings, hidden, tuple(sensitive))


def _purpose(index: EstateIndex, group: Principal, platform: str) -> str:
    if group.kind is PrincipalKind.LOCAL_GROUP:
        return index.estate.platforms[platform].local_groups[group.name].purpose
    return index.estate.directory.groups[group.name].purpose


def _owner_of_place(index: EstateIndex, address: str) -> tuple[NamedThing | None, bool]:
    """Who answers for a place, or for the nearest above it of which somebody does."""
    scopes = index.estate.platforms[platform_of(address)].scopes
    for above in reversed(with_containing(address)):
        owner = scopes[above].owner
        if owner is not None:
            return _named(index, owner)
    return None, False


def _named(index: EstateIndex, owner: Principal) -> tuple[NamedThing, bool]:
    if owner.kind is PrincipalKind.GROUP:
        return NamedThing(owner.name, index.estate.directory.groups[owner.name].purpose), True
    return NamedThing(owner.name, index.estate.directory.users[owner.name].name), False
