"""The ways in which a stand-in can be told to misbehave, so that differences can be shown and tested."""

from __future__ import annotations

from collections.abc import Callable

from justlane.standin.site import Binding, Misbehaviour, Role, Site


def _three(site: Site, detail: str) -> list[str]:
    user, _, rest = detail.partition(" ")
    action, _, scope = rest.partition(" ")
    if scope not in site.nature.kinds or action not in site.nature.implies or user not in site.people:
        raise ValueError(f"expected `USER ACTION SCOPE` that exist here, found {detail!r}")
    return [user, action, scope]


def _behind_ones_back(site: Site, detail: str) -> None:
    """A binding that nobody declared: USER ROLE SCOPE."""
    user, _, rest = detail.partition(" ")
    role, _, scope = rest.partition(" ")
    if scope not in site.nature.kinds or role not in site.roles or user not in site.people:
        raise ValueError(f"expected `USER ROLE SCOPE` that exist here, found {detail!r}")
    site.bindings[f"by-hand-{len(site.bindings)}"] = Binding(f"user {user}", role, scope, place=len(site.bindings))
    site.revision += 1


def _stale_role(site: Site, detail: str) -> None:
    """A role that goes on working as it does now, whatever is put from now on: ROLE, or ROLE ACTION for one that
    still holds an action which it no longer should."""
    name, _, action = detail.partition(" ")
    if name not in site.roles or (action and action not in site.nature.implies):
        raise ValueError(f"expected `ROLE` or `ROLE ACTION` that exist here, found {detail!r}")
    role = site.roles[name]
    stale = Role(role.allows + ([action] if action else []), list(role.excepts), list(role.builds_on))
    site.misbehaviour.stale_roles[name] = stale


def _behave(site: Site, detail: str) -> None:
    site.misbehaviour = Misbehaviour()


MISBEHAVIOURS: dict[str, Callable[[Site, str], None]] = {
    "grant": _behind_ones_back,
    "stale-role": _stale_role,
    "hidden-grant": lambda site, detail: site.misbehaviour.hidden_grants.append(_three(site, detail)),
    "hidden-refusal": lambda site, detail: site.misbehaviour.hidden_refusals.append(_three(site, detail)),
    "two-faced": lambda site, detail: site.misbehaviour.two_faced.append(_three(site, detail)),
    "telling-totals": lambda site, detail: setattr(site.misbehaviour, "telling_totals", True),
    "slow": lambda site, detail: setattr(site.misbehaviour, "slow", True),
    "hang": lambda site, detail: setattr(site.misbehaviour, "hang", True),
    "nonsense": lambda site, detail: setattr(site.misbehaviour, "nonsense", True),
    "none": _behave,
}
"""Each way to misbehave: `grant` is made behind one's back and shows when the platform is read; the others do not."""
