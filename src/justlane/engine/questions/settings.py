"""What groups bring besides roles: settings, such as a start page or a language. They decide nothing about access."""

from __future__ import annotations

from datetime import datetime

from msgspec import Struct

from justlane.engine.facts.index import EstateIndex
from justlane.engine.facts.people import person
from justlane.model.estate import Setting
from justlane.model.people import Principal, PrincipalKind


class BroughtSetting(Struct, frozen=True):
    """A setting as somebody has it on a platform, and what it stands before."""

    platform: str
    setting: Setting
    """The one that counts."""
    instead_of: tuple[Setting, ...]
    """The others that there are of this name for them, in their order."""


def settings_of(index: EstateIndex, principal: Principal, platform: str, moment: datetime) -> list[BroughtSetting]:
    """The settings of a user, with what they come from; of a group, those that it brings itself.

    A group's value wins over the person's own, unless that is marked as kept; between groups the order in which the
    platform declares them decides. `platform` is that of a local group.
    """
    found: list[BroughtSetting] = []
    for declared in index.estate.platforms.values():
        if not declared.settings or platform not in ("", declared.name):
            continue
        known = frozenset([principal])
        if principal.kind is PrincipalKind.USER:
            known = person(index, principal.name, declared.name, moment).principals
        mine = [setting for setting in declared.settings if setting.principal in known]
        for name in dict.fromkeys(setting.name for setting in mine):
            own = [s for s in mine if s.name == name and s.principal.kind is PrincipalKind.USER]
            brought = [s for s in mine if s.name == name and s.principal.kind is not PrincipalKind.USER]
            kept = [setting for setting in own if setting.kept]
            first, *others = dict.fromkeys([*kept, *brought, *own])
            found.append(BroughtSetting(declared.name, first, tuple(others)))
    return found
