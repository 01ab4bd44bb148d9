"""What is worth knowing about bindings that are about to be given: what gives it already, that nobody is in the group,
that it would not count, who would decide otherwise."""

from __future__ import annotations

from collections.abc import Iterator, Sequence

from msgspec import Struct

from justlane.engine.decision.judge import Gate, Judge, Question, gates_to
from justlane.engine.facts.index import EstateIndex, PlatformIndex
from justlane.engine.facts.people import local_members
from justlane.model.bindings import Binding
from justlane.model.circumstances import ALWAYS
from justlane.model.findings import Source
from justlane.model.people import ANONYMOUS, AUTHENTICATED, Principal, PrincipalKind

_MOST_LATER = 5


class Remark(Struct, frozen=True):
    """Something worth knowing."""

    kind: str
    """`given-already`, `nobody-in-it`, `not-published`, `decided-otherwise`, `person-without-end`, `cannot-get-in`, or
    what a command notes itself."""
    message: str
    source: Source | None = None
    """The line that it is about."""


def about_given(
    before: EstateIndex, after: EstateIndex, given: Sequence[Binding], question: Question
) -> Iterator[Remark]:
    """What there is to say about new bindings, `given` as they stand in the estate after."""
    seen: set[Remark] = set()
    for binding in given:
        prepared = before.platform(binding.scope)
        for remark in _about(before, after, prepared, binding, question):
            if remark not in seen:
                seen.add(remark)
                yield remark


def _about(
    before: EstateIndex, after: EstateIndex, prepared: PlatformIndex, binding: Binding, question: Question
) -> Iterator[Remark]:
    yield from _nobody(before, prepared, binding.principal, question)
    if applies_nowhere(after.platform(binding.scope), binding):
        message = f"nothing that {binding.role} holds can be done at {binding.scope}"
        below = "" if binding.here_only else " or below"
        yield Remark("applies-nowhere", f"{message}{below}: nobody gains anything by it, now or later")
        return
    if binding.scope in prepared.platform.scopes and not prepared.counts(binding, binding.scope):
        message = f"{binding.principal} is not published to {binding.scope}: it does not count there until it is"
        yield Remark("not-published", message)
    if binding.allows and binding.scope in prepared.platform.scopes:
        yield from _already(before, prepared, binding, question)
    if prepared.ordered:
        yield from _later(after.platform(binding.scope), binding)
    if binding.allows and binding.scope in prepared.platform.scopes:
        yield from _checked(after, binding, question)


def applies_nowhere(prepared: PlatformIndex, binding: Binding) -> bool:
    """Whether none of a binding's actions can be done at any place that it covers, whoever has it."""
    held = prepared.roles.holdings(binding.role) if binding.role in prepared.platform.roles else ()
    opening = {prepared.platform.habits.sign_in, prepared.platform.habits.on_the_way}
    if not opening.isdisjoint(held):
        return False
    scopes = prepared.platform.scopes
    covered = (at for at in prepared.coverage.covered(binding.scope) if prepared.covers(binding, at))
    kinds = {scopes[at].kind for at in covered}
    return not any(prepared.platform.actions[action].applies(kind) for action in held for kind in kinds)


def said_already(before: EstateIndex, given: Sequence[Binding]) -> Binding | None:
    """A line that says just what new bindings say, where all of them are said already; None if one is new, or where
    the order of lines decides."""
    found: Binding | None = None
    for binding in given:
        prepared = before.platform(binding.scope)
        if prepared.ordered:
            return None
        wanted = _said(binding)
        found = next((b for b in prepared.bindings.of(binding.principal) if _said(b) == wanted), None)
        if found is None:
            return None
    return found


def _said(binding: Binding) -> object:
    """What a binding says, without why and where it is written."""
    return binding.role, binding.bundle, binding.scope, binding.allows, binding.here_only, binding.condition


def _checked(after: EstateIndex, binding: Binding, question: Question) -> Iterator[Remark]:
    """What `check` warns of from now on."""
    to = binding.principal
    if to.kind is PrincipalKind.USER and binding.condition.last_day is None:
        message = f"{to} is given it in person, for ever: say until when, --until YYYY-MM-DD"
        yield Remark("person-without-end", message)
    prepared = after.platform(binding.scope)
    gates = list(gates_to(prepared, binding.scope))
    if not gates or to == ANONYMOUS:
        return
    from justlane.engine.classes.people_by_name import PeopleByName

    behind = PeopleByName(after, prepared.platform.name, question.dated, prepared.named)
    out: dict[Gate, int] = {}
    total = 0
    for alike in behind.classes(behind.those_with([to])):
        total += len(alike.users)
        judging = Judge(prepared, alike.person, question, after.estate.time_zone)
        shut = next((gate for gate in gates if not judging.allowed(gate.action, gate.scope)), None)
        if shut is not None:
            out[shut] = out.get(shut, 0) + len(alike.users)
    for gate, count in out.items():
        who = "nobody of them can" if count == total else f"{count:,} of {total:,} people cannot"
        yield Remark("cannot-get-in", f"{who} use it, for want of {gate.action} at {gate.scope}", gate.source)


def _nobody(index: EstateIndex, prepared: PlatformIndex, principal: Principal, question: Question) -> Iterator[Remark]:
    if principal.kind in (PrincipalKind.AUTHENTICATED, PrincipalKind.ANONYMOUS):
        return
    from justlane.engine.classes.people_by_name import PeopleByName

    if not PeopleByName(index, prepared.platform.name, question.dated, [principal]).count(principal):
        what = "is disabled" if principal.kind is PrincipalKind.USER else "has nobody in it who can sign in"
        yield Remark("nobody-in-it", f"{principal} {what}: nobody gains anything by this now")


def _already(index: EstateIndex, prepared: PlatformIndex, binding: Binding, question: Question) -> Iterator[Remark]:
    """What gives the same, or more, to all of them already."""
    wanted = set(prepared.roles.holdings(binding.role)) if binding.role in prepared.platform.roles else set()
    for holder in _all_of(index, prepared, binding.principal, question):
        for known in prepared.bindings.of(holder):
            covers = prepared.covers(known, binding.scope) and (not known.here_only or binding.here_only)
            same_role = known.role == binding.role
            if not known.allows or not covers or known.condition != ALWAYS or not wanted:
                continue
            if same_role or wanted <= set(prepared.roles.holdings(known.role)):
                what = known.role if same_role else f"{known.role}, which holds all of {binding.role},"
                through = "" if holder == binding.principal else f" through {holder}"
                message = f"{binding.principal} has {what} at {known.scope} already{through}"
                yield Remark("given-already", message, known.source)
                return


def _all_of(
    index: EstateIndex, prepared: PlatformIndex, principal: Principal, question: Question
) -> Iterator[Principal]:
    """What stands for everybody for whom a principal stands, itself first."""
    known = index.membership.principals_of(principal)
    yield from known
    for name in prepared.platform.local_groups:
        if any(m.member in known for m in local_members(index, name, prepared.platform.name, question.dated)):
            yield Principal(PrincipalKind.LOCAL_GROUP, name)
    if principal != ANONYMOUS and principal not in known[1:] and AUTHENTICATED not in known:
        yield AUTHENTICATED


def _later(prepared: PlatformIndex, binding: Binding) -> Iterator[Remark]:
    """The lines below that decide otherwise for some of the same places and actions."""
    actions = set(prepared.roles.holdings(binding.role))
    covered = set(prepared.coverage.covered(binding.scope))
    found = [
        known
        for known in prepared.bindings
        if known.allows != binding.allows
        and prepared.bindings.place(known) > prepared.bindings.place(binding)
        and (known.scope in covered or binding.scope in prepared.coverage.covered(known.scope))
        and actions & set(prepared.roles.holdings(known.role))
    ]
    for known in found[:_MOST_LATER]:
        what = "gives" if known.allows else "denies"
        message = f"a later line {what} {known.role} to {known.principal} at {known.scope}, and decides for them"
        yield Remark("decided-otherwise", message, known.source)
    if len(found) > _MOST_LATER:
        yield Remark("decided-otherwise", f"and {len(found) - _MOST_LATER} later lines more")
