"""One place: everything that is given there, and everybody who may do something."""

from __future__ import annotations

from collections.abc import Iterator

from justlane.engine.questions.one_place import GivenHere, OnePlace, PeopleHere, Standing
from justlane.model.names import counted
from justlane.reports.outputs.views import GivenHere as GivenHereJson
from justlane.reports.outputs.views import OnePlace as OnePlaceJson
from justlane.reports.outputs.views import PeopleHere as PeopleHereJson
from justlane.reports.parts import chains
from justlane.reports.parts.conditions import boxes_text, condition_text, plain_boxes
from justlane.reports.text.lines import Line, Span, line, render
from justlane.reports.text.look import Look, Sheet

_MOST_NAMED = 8


def plain(result: OnePlace) -> OnePlaceJson:
    """The place as JSON values; each binding stands there once, and the rest names it by its place."""
    bindings = chains.References()
    given: list[GivenHereJson] = [
        {
            "binding": bindings.to(g.binding),
            "standing": g.standing.value,
            "inherited": bool(g.coverage),
            "people": g.people,
        }
        for g in result.given
    ]
    people: list[PeopleHereJson] = [
        {
            "users": list(alike.users),
            "actions": {
                action: {
                    "conditions": plain_boxes(reached.conditions),
                    "grants": [chains.plain_grant(grant, bindings) for grant in reached.grants],
                }
                for action, reached in alike.actions.items()
            },
        }
        for alike in result.people
    ]
    return {
        "scope": result.scope.address,
        "kind": result.scope.kind,
        "for": result.scope.purpose,
        "narrowed_to": result.pattern,
        "given": given,
        "people": people,
        "published": [
            {"group": p.group, "scope": p.scope, **chains.plain_source(p.source)} for p in result.publications
        ],
        "bindings": bindings.plain,
    }


def sheet(result: OnePlace) -> Sheet:
    """One row for each person, action and binding that gives it."""
    rows = [
        (
            user,
            action,
            boxes_text(grant.conditions or reached.conditions) or "always",
            grant.binding.role,
            str(grant.binding.principal),
            grant.binding.scope,
            grant.binding.condition.last_day or "",
            grant.binding.source.line_address,
        )
        for alike in result.people
        for user in alike.users
        for action, reached in alike.actions.items()
        for grant in reached.grants
    ]
    return Sheet(("user", "action", "when", "role", "given to", "given at", "until", "line"), rows)


def text(result: OnePlace, look: Look) -> str:
    """The place for a person."""
    return render(_lines(result), look)


def _lines(result: OnePlace) -> Iterator[Line]:
    scope, what = result.scope, f" of {result.pattern}" if result.pattern else ""
    purpose = f"  {scope.purpose}" if scope.purpose else ""
    yield line((scope.address, "head"), (f"  {scope.kind}", "dim"), purpose, source=scope.source, hanging="  ")
    count = sum(len(alike.users) for alike in result.people)
    who = counted(count, "person", "people") if count else "nobody"
    yield line(f"{who} may do something{what} here")
    if result.given:
        yield line()
        yield line(("given here, the nearest first", "head"))
    numbers = {id(g.binding): number for number, g in enumerate(result.given, 1)}
    for number, given in enumerate(result.given, 1):
        yield from _given(number, given)
    if result.people:
        yield line()
        yield line(("who may do what", "head"))
    for alike in result.people:
        yield from _people(alike, numbers)
    if result.publications:
        yield line()
        yield line(("groups that count here", "head"))
    for publication in result.publications:
        where = "here" if publication.scope == scope.address else f"to {publication.scope}"
        yield line("  ·  ", (publication.group, "name"), f", published {where}", source=publication.source)


def _given(number: int, given: GivenHere) -> Iterator[Line]:
    binding = given.binding
    verb = "to" if binding.allows else "denied to"
    where = f", inherited from {binding.scope}" if given.coverage else ""
    built_in = ", built in" if binding.built_in else ""
    people = f" ({counted(given.people, 'person', 'people')})"
    role: Span = (binding.role, "name" if binding.allows else "no")
    spans = (f"{number:>4}  ", role, f" {verb} ", (str(binding.principal), "name"), f"{people}{where}{built_in}")
    yield line(*spans, source=binding.source, hanging="      ")
    said = condition_text(binding.condition)
    if given.standing not in (Standing.COUNTS, Standing.ENDED):
        said = ", ".join(filter(None, (given.standing.value, said)))
    if given.standing is Standing.ENDED:
        said = said.replace("until ", "ended ")
    if said:
        yield line((f"      when: {said}", "dim"), hanging="      ")


def _people(alike: PeopleHere, numbers: dict[int, int]) -> Iterator[Line]:
    names = ", ".join(alike.users[:_MOST_NAMED])
    more = f" and {len(alike.users) - _MOST_NAMED:,} more" if len(alike.users) > _MOST_NAMED else ""
    yield line("  ·  ", (names, "name"), more, hanging="     ")
    found: dict[tuple[tuple[int, ...], str], list[str]] = {}
    for action, reached in alike.actions.items():
        ways = tuple(sorted(numbers[id(grant.binding)] for grant in reached.grants))
        found.setdefault((ways, boxes_text(reached.conditions)), []).append(action)
    for (ways, when), actions in sorted(found.items()):
        through: Span = (f"     {','.join(map(str, ways)):<6}", "warn")
        yield line(through, ", ".join(actions), (f" (only {when})" if when else "", "warn"), hanging=" " * 11)
