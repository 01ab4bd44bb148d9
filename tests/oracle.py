"""A second evaluator: slow, simple, written from the page on the domain alone. It shares no code with the engine.

One question, one set of circumstances, one boolean.
"""

from __future__ import annotations

import functools
import ipaddress
from collections.abc import Callable
from dataclasses import dataclass
from datetime import date, datetime
from typing import Any, TypeVar
from zoneinfo import ZoneInfo

from justlane.model.bindings import Binding
from justlane.model.circumstances import Condition
from justlane.model.estate import Estate, Platform

RESOURCE_GROUP = "resource group"


@dataclass(frozen=True)
class Facts:
    """One set of circumstances."""

    moment: datetime
    address: str = ""
    multi_factor: bool = False
    method: str = ""
    managed: bool = False
    ago: int | None = None
    """Minutes since they signed in."""
    asked: datetime | None = None
    """When the question is asked, if that is not the moment: dates are judged then."""


def like(pattern: str, name: str) -> bool:
    if "*" not in pattern:
        return pattern == name
    head, rest = pattern.split("*", 1)
    return name.startswith(head) and any(like(rest, name[cut:]) for cut in range(len(head), len(name) + 1))


T = TypeVar("T")


def once(method: Callable[..., T]) -> Callable[..., T]:
    """Worked out once for the same words; nobody changes what comes back."""

    @functools.wraps(method)
    def said(self: Oracle, *words: object) -> T:
        key = method.__name__, *words
        if key not in self.known:
            self.known[key] = method(self, *words)
        return self.known[key]  # type: ignore[no-any-return]

    return said


class Oracle:
    def __init__(self, estate: Estate, platform: str, facts: Facts) -> None:
        self.estate = estate
        self.p: Platform = estate.platforms[platform]
        self.facts = facts
        self.known: dict[object, Any] = {}
        self.bindings = [b for b in estate.bindings if b.scope.split("/")[0] == platform]

    # 4.1 the directory

    @once
    def groups(self, user: str) -> set[str]:
        found: set[str] = set()
        changed = True
        while changed:
            changed = False
            for name, group in self.estate.directory.groups.items():
                for m in group.members:
                    inside = m.member.name == user if m.member.kind == "user" else m.member.name in found
                    if inside and name not in found:
                        found.add(name)
                        changed = True
        return found

    def reaches(self, principal: object, user: str) -> bool:
        kind, name = principal.kind, principal.name  # type: ignore[attr-defined]
        if user == "anonymous":
            return bool(kind == "anonymous")
        if kind == "authenticated":
            return True
        if kind == "user":
            return bool(name == user)
        if kind == "group":
            return name in self.groups(user)
        if kind == "local group":
            return any(self.reaches(m.member, user) for m in self.p.local_groups[name].members if m.last_day is None or self.day() <= m.last_day)
        return False

    # 4.2 scopes

    @once
    def below(self, scope: str) -> set[str]:
        return {s for s in self.p.scopes if s == scope or s.startswith(scope + "/")}

    @once
    def covered(self, scope: str) -> set[str]:
        found = self.below(scope)
        while True:
            more = set(found)
            for s in found:
                for g in self.p.scopes[s].gathers:
                    more |= self.below(g.address)
            if more == found:
                return found
            found = more

    def covers(self, b: Binding, place: str) -> bool:
        if b.here_only:
            return place == b.scope or place in {g.address for g in self.p.scopes[b.scope].gathers}
        return place in self.covered(b.scope)

    # 4.3 roles

    @once
    def actions(self, role: str) -> set[str]:
        r = self.p.roles[role]
        held = {a for a in self.p.actions if any(like(p.text, a) for p in r.allows)}
        for base in r.builds_on:
            held |= self.actions(base.text)
        while True:
            more = held | {i.text for a in held for i in self.p.actions[a].implies}
            if more == held:
                break
            held = more
        return {a for a in held if not any(like(p.text, a) for p in r.excepts)}

    def applies(self, action: str, place: str) -> bool:
        kinds = self.p.actions[action].applies_to
        return not kinds or self.p.scopes[place].kind in kinds

    # 4.6, 4.7 circumstances

    def day(self) -> date:
        return (self.facts.asked or self.facts.moment).astimezone(ZoneInfo(self.estate.time_zone)).date()

    def in_date(self, c: Condition) -> bool:
        day = self.day()
        return (c.first_day is None or day >= c.first_day) and (c.last_day is None or day <= c.last_day)

    @once
    def fulfilled(self, c: Condition) -> bool:
        f = self.facts
        if not self.in_date(c):
            return False
        if c.networks:
            if not f.address:
                return False
            if not any(ipaddress.ip_address(f.address) in ipaddress.ip_network(n) for n in c.networks):
                return False
        if c.multi_factor is not None and c.multi_factor != f.multi_factor:
            return False
        if c.methods and f.method not in c.methods:
            return False
        if c.not_methods and f.method in c.not_methods:
            return False
        if c.managed_device is not None and c.managed_device != f.managed:
            return False
        if c.signed_in_within and (f.ago is None or f.ago > c.signed_in_within):
            return False
        if f.address and any(ipaddress.ip_address(f.address) in ipaddress.ip_network(n) for n in c.not_networks):
            return False
        clock = f.moment.astimezone(ZoneInfo(c.time_zone or self.estate.time_zone))
        if c.weekdays and clock.weekday() not in c.weekdays:
            return False
        minute = clock.hour * 60 + clock.minute
        if c.hours:
            return any(h.start <= minute < h.end if h.start < h.end else minute >= h.start or minute < h.end for h in c.hours)
        return True

    # 4.5, 4.7 habits

    def published(self, b: Binding, place: str) -> bool:
        if not self.p.habits.publication or b.principal.kind != "group":
            return True
        return any(p.group == b.principal.name and place in self.below(p.scope) for p in self.p.publications)

    @once
    def open(self, place: str) -> bool:
        return not any(b.effect == "allow" and not b.built_in and b.scope != self.p.name and self.covers(b, place) for b in self.bindings)

    @once
    def counting(self, user: str, place: str, role: str | None) -> list[Binding]:
        """The bindings that count at a place, in order."""
        found: list[Binding] = []
        if self.p.habits.open_role and user != "anonymous" and self.open(place):
            from justlane.model.people import AUTHENTICATED

            found.append(Binding(AUTHENTICATED, self.p.habits.open_role, self.p.name, "", self.p.source, built_in=True))
        for built_in in (True, False):
            for b in self.bindings:
                active = role is None or b.built_in or self.active(b, role)
                says = active and self.reaches(b.principal, user) and self.covers(b, place)
                if b.built_in == built_in and says and self.fulfilled(b.condition) and self.published(b, place):
                    found.append(b)
        return found

    def thing(self, b: Binding) -> str:
        """What one acts as by it: a bundle is one thing."""
        return "bundle " + b.bundle if b.bundle else b.role

    def active(self, b: Binding, role: str) -> bool:
        if b.effect == "allow":
            return self.thing(b) == role
        held = {role} | {x.role for x in self.bindings if x.effect == "allow" and x.bundle and self.thing(x) == role}
        return b.role in held

    def given(self, user: str, action: str, place: str, role: str | None) -> bool:
        for c in self.p.ceilings:
            spared = any(self.reaches(p, user) for p in c.but_not)
            if self.reaches(c.principal, user) and not spared and self.fulfilled(c.condition) and any(like(p, action) for p in c.patterns):
                return False
        counting = self.counting(user, place, role)
        if self.p.habits.decides == "nearest" and counting:
            depth = max(len(b.scope.split("/")) for b in counting)
            counting = [b for b in counting if len(b.scope.split("/")) == depth]
        matching = [b.effect == "allow" for b in counting if action in self.actions(b.role)]
        if self.p.habits.decides == "last-match":
            return bool(matching) and matching[-1]
        return any(matching) and all(matching)

    @once
    def roles(self, user: str) -> set[str]:
        return {
            self.thing(b)
            for b in self.bindings
            if b.effect == "allow" and not b.built_in and self.reaches(b.principal, user) and self.in_date(b.condition)
        }

    def may(self, user: str, action: str, place: str, as_role: str = "") -> bool:
        if user != "anonymous":
            account = self.estate.directory.users[user]
            if not account.enabled or (account.last_day and self.day() > account.last_day):
                return False
        if self.p.habits.roles_held == "together":
            return self.may_as(user, action, place, None)
        mine = self.roles(user)
        if as_role:
            return as_role in mine and self.may_as(user, action, place, as_role)
        return any(self.may_as(user, action, place, role) for role in (mine or {""}))

    def may_as(self, user: str, action: str, place: str, role: str | None) -> bool:
        if not self.applies(action, place):
            return False
        h = self.p.habits
        if h.sign_in and not self.given(user, h.sign_in, self.p.name, role):
            return False
        if h.on_the_way:
            above = [s for s in self.p.scopes if place.startswith(s + "/") and self.applies(h.on_the_way, s)]
            if not all(self.given(user, h.on_the_way, s, role) for s in above):
                return False
        return self.given(user, action, place, role)
