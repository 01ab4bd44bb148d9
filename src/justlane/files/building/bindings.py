"""From validated files to bindings, ceilings, bundles, situations and expectations, each with its line."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator, Mapping
from datetime import datetime
from itertools import product
from typing import Any
from zoneinfo import ZoneInfo

from justlane.files.building.places import DeclaredPlaces
from justlane.files.reading.estate_files import DeclaredFiles
from justlane.files.reading.shapes import (
    BindingShape,
    ExpectationShape,
    FileWithBindings,
    PlatformFile,
    SituationShape,
    WhenShape,
)
from justlane.files.reading.yamltext import Text
from justlane.model.bindings import Binding, BreakGlass, Ceiling, Sense
from justlane.model.circumstances import ALWAYS, CONDITION_PARTS, FACTS, WEEKDAYS, Condition, Hours, Situation, span_of
from justlane.model.expectations import (
    AnyExpectation,
    AtMostMay,
    Duty,
    Extent,
    NobodyMayBoth,
    OnlyGroupMay,
    UserMay,
    UserMayNot,
)
from justlane.model.findings import Source
from justlane.model.people import Principal, PrincipalKind

BUNDLE = "bundle "

Bundles = Mapping[str, tuple[tuple[str, str], ...]]
"""Name of a bundle -> its (role, scope) pairs, in order."""


def principal_of(text: str) -> Principal:
    """`group crew` or `local group crew` -> the principal."""
    words = text.split(" ", 2 if text.startswith("local ") else 1)
    named = len(words) > 1
    kind = PrincipalKind(" ".join(words[:-1] if named else words))
    return Principal(kind, words[-1].strip() if named else "")


def bundles_of(declared: DeclaredFiles) -> Bundles:
    """All bundles, of whichever file."""
    return {
        name: tuple(role_at(pair) for pair in shape.holds)
        for _, file in declared.of(FileWithBindings)
        for name, shape in file.bundles.items()
    }


def role_at(text: str) -> tuple[str, str]:
    """`ROLE at SCOPE` -> the role and the scope."""
    role, _, scope = text.partition(" at ")
    return role.strip(), scope.strip()


def bindings_of(declared: DeclaredFiles, places: DeclaredPlaces, bundles: Bundles) -> tuple[Binding, ...]:
    """All bindings: those that are built in, then the others, each in the order in which they are written."""
    found = [
        binding
        for text, file in declared.of(FileWithBindings)
        for place, shape in enumerate(file.bindings)
        for binding in _binding(text, place, shape, bundles, places)
    ]
    return (*(b for b in found if b.built_in), *(b for b in found if not b.built_in))


def _binding(
    text: Text, place: int, shape: BindingShape, bundles: Bundles, places: DeclaredPlaces
) -> Iterator[Binding]:
    source = text.source("bindings", place)
    effect = Sense.ALLOW if shape.give else Sense.DENY
    condition = condition_of(shape.when, shape)
    written = [(at, text.source("bindings", place, "at", n)) for n, at in enumerate(shape.at)]
    meant = [(scope, at if scope != at else "") for at, line in written for scope in places.meant(at, text, line)]
    for word, principal in product(shape.give or shape.deny, shape.to):
        bundle = word.removeprefix(BUNDLE).strip() if word.startswith(BUNDLE) else ""
        pairs = [(*pair, "") for pair in bundles.get(bundle, ())] if bundle else [(word, *at) for at in meant]
        for role, scope, pattern in pairs:
            yield Binding(
                principal_of(principal),
                role,
                scope,
                shape.because,
                source,
                effect,
                shape.here_only,
                condition,
                shape.built_in,
                bundle,
                pattern,
                shape.account,
            )


def condition_of(shape: WhenShape | None, dates: BindingShape | None = None) -> Condition:
    """What must hold, from `when` and the dates beside it."""
    asked = shape or WhenShape.model_validate({})
    said = {part.field: getattr(asked, part.field) for part in CONDITION_PARTS}
    said |= {field: read(said[field]) for field, read in _READ.items()}
    return Condition(**said, first_day=dates.first_day if dates else None, last_day=dates.last_day if dates else None)


def _days(span: str) -> list[int]:
    """`mon-fri` -> 0 to 4; `sat-mon` runs over the end of the week."""
    first, _, last = span.partition("-")
    start, end = WEEKDAYS.index(first), WEEKDAYS.index(last or first)
    return [day % 7 for day in range(start, end + 1 if end >= start else end + 8)]


def _hours(span: str) -> Hours:
    start, end = (int(clock[:2]) * 60 + int(clock[3:]) for clock in span.split("-"))
    return Hours(start, end)


_READ: dict[str, Callable[[Any], Any]] = {
    "weekdays": lambda spans: tuple(sorted({day for span in spans for day in _days(span)})),
    "hours": lambda spans: tuple(_hours(span) for span in spans),
    "signed_in_within": lambda text: span_of(text) if text else 0,
}
"""How what stands in a file is meant, where it is not what it says."""


def ceilings_of(text: Text, file: PlatformFile) -> tuple[Ceiling, ...]:
    """The ceilings of a platform."""
    return tuple(
        Ceiling(
            principal_of(to),
            shape.never,
            condition_of(shape.when),
            shape.because,
            text.source("ceilings", place),
            tuple(principal_of(left_out) for left_out in shape.but_not_to),
        )
        for place, shape in enumerate(file.ceilings)
        for to in shape.to
    )


def break_glass_of(declared: DeclaredFiles) -> tuple[BreakGlass, ...]:
    """The accounts for the day on which nothing else works."""
    root, text = declared.root, declared.files[0].text
    return tuple(
        BreakGlass(principal_of(shape.account), shape.networks, shape.because, _one_of(text, place), shape.methods)
        for place, shape in enumerate(root.break_glass if root else ())
    )


def _one_of(text: Text, place: int) -> Source:
    """Where one of several stands; a single one may stand without a list around it."""
    one = ("break-glass", place)
    return text.source(*(one if one in text.values else one[:1]))


def break_glass_ceilings(accounts: Iterable[BreakGlass]) -> tuple[Ceiling, ...]:
    """What holds on every platform: nothing, from anywhere but the network of the account, or signed in otherwise."""
    return tuple(
        Ceiling(account.account, ("*",), condition, account.reason, account.source)
        for account in accounts
        for condition in (Condition(not_networks=account.networks), Condition(not_methods=account.methods))
        if condition != ALWAYS
    )


def situations_of(declared: DeclaredFiles, zone: str) -> dict[str, Situation]:
    """All situations, of whichever file; their times are in the estate's time zone."""
    return {
        name: _situation(shape, zone)
        for _, file in declared.of(FileWithBindings)
        for name, shape in file.situations.items()
    }


def _situation(shape: SituationShape, zone: str) -> Situation:
    moment: datetime | None = shape.moment
    if moment is not None and moment.tzinfo is None:
        moment = moment.replace(tzinfo=ZoneInfo(zone))
    facts: dict[str, Any] = {fact.field: getattr(shape, fact.field) for fact in FACTS}
    facts["signed_in_ago"] = span_of(shape.signed_in_ago) if shape.signed_in_ago else None
    return Situation(moment=moment, **facts)


def expectations_of(declared: DeclaredFiles) -> tuple[AnyExpectation, ...]:
    """All expectations, in the order in which they are written."""
    return tuple(
        _expectation(text, place, shape)
        for text, file in declared.of(FileWithBindings)
        for place, shape in enumerate(file.expectations)
    )


def _expectation(text: Text, place: int, shape: ExpectationShape) -> AnyExpectation:
    source, duties = text.source("expectations", place), duties_of(shape)
    reason, situation = shape.because, shape.situation or ""
    if shape.only is not None:
        group = principal_of(shape.only).name
        return OnlyGroupMay(source=source, reason=reason, situation=situation, group=group, duties=duties)
    if shape.at_most is not None:
        return AtMostMay(source=source, reason=reason, situation=situation, limit=shape.at_most, duties=duties)
    if shape.user is None:
        return NobodyMayBoth(source=source, reason=reason, situation=situation, duties=duties)
    kind = UserMay if shape.may is not None else UserMayNot
    return kind(source=source, reason=reason, situation=situation, user=shape.user, duties=duties)


def duties_of(shape: ExpectationShape) -> tuple[Duty, ...]:
    """The actions of an expectation with their places."""
    actions = shape.may or shape.may_not or shape.nobody_may_both or ()
    placed = shape.placed
    if placed is None:
        return tuple(Duty(*role_at(action)) for action in actions)
    extent, scope = placed
    return tuple(Duty(action, scope, Extent(extent)) for action in actions)
