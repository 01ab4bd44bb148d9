"""How a stand-in decides. Written from the domain's rules alone, in another way than the engine: from the binding
down, by asking whether each one reaches the person, the action and the place."""

from __future__ import annotations

import fnmatch
import re
from functools import cache

from justlane.standin.site import Site


class Ruling:
    """The decisions of a stand-in at one revision."""

    def __init__(self, site: Site) -> None:
        self._site = site
        self._crowd = cache(self._people_behind)
        self._extent = cache(self._places_under)
        self._powers = cache(self._actions_of)

    def allows(self, user: str, action: str, scope: str) -> bool:
        """Whether the action would be carried out."""
        cell = [user, action, scope]
        odd = self._site.misbehaviour
        if cell in odd.hidden_refusals:
            return False
        return cell in odd.hidden_grants or cell in odd.two_faced or self._given(user, action, scope)

    def says(self, user: str, action: str, scope: str) -> bool:
        """What is answered to somebody who asks."""
        if [user, action, scope] in self._site.misbehaviour.two_faced:
            return False
        return self.allows(user, action, scope)

    def may_sign_in(self, user: str) -> bool:
        """Whether the account exists and is enabled."""
        person = self._site.people.get(user)
        return person is not None and person.enabled

    def _given(self, user: str, action: str, scope: str) -> bool:
        nature = self._site.nature
        if not self.may_sign_in(user) or scope not in nature.kinds or action not in nature.implies:
            return False
        if nature.applies[action] and nature.kinds[scope] not in nature.applies[action]:
            return False
        return any(
            scope in self._extent(b.scope) and action in self._powers(b.role) and user in self._crowd(b.principal)
            for b in self._site.bindings.values()
        )

    def _people_behind(self, principal: str) -> frozenset[str]:
        """Everyone whom a principal stands for."""
        if principal == "authenticated":
            return frozenset(self._site.people)
        if principal == "anonymous":
            return frozenset()
        people: set[str] = set()
        waiting, met = {principal}, set[str]()
        while waiting:
            one = waiting.pop()
            met.add(one)
            kind, _, name = one.partition(" ")
            if kind == "user":
                people.add(name)
            elif name in self._site.groups:
                waiting |= set(self._site.groups[name].members) - met
        return frozenset(people)

    def _places_under(self, scope: str) -> frozenset[str]:
        """The scope and all below it, and the same for what resource groups there gather."""
        places: set[str] = set()
        roots = [scope]
        while roots:
            root = roots.pop()
            for place in self._site.nature.kinds:
                if place not in places and (place == root or place.startswith(f"{root}/")):
                    places.add(place)
                    roots += self._site.nature.gathers.get(place, [])
        return frozenset(places)

    def _actions_of(self, name: str) -> frozenset[str]:
        """All that a role lets people do."""
        role = self._site.misbehaviour.stale_roles.get(name) or self._site.roles.get(name)
        if role is None:
            return frozenset()
        held = self._matched(role.allows).union(*(self._powers(base) for base in role.builds_on))
        size = -1
        while len(held) != size:
            size = len(held)
            held = held.union(*(self._site.nature.implies[action] for action in held))
        return frozenset(held - self._matched(role.excepts))

    def _matched(self, patterns: list[str]) -> set[str]:
        """fnmatch knows more than `*`; only that one is a pattern here."""
        expressions = [re.compile(fnmatch.translate(re.sub(r"([\[?])", r"[\1]", p))) for p in patterns]
        return {a for a in self._site.nature.implies if any(e.match(a) for e in expressions)}
