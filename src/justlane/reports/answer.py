"""One question, answered: yes with every chain, no with what fails and what would turn it."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any

from justlane.engine.explaining import Answer, Chain, Change, Failing, Failure, Miss
from justlane.reports import chains
from justlane.reports.interface import Look, Sheet
from justlane.reports.layout import Line, line, render

_MOST_MISSES = 5


def plain(result: Answer) -> dict[str, Any]:
    """The answer as JSON values."""
    return {
        "user": result.user,
        "action": result.action,
        "scope": result.scope,
        "answer": "yes" if result.allowed else "no",
        "chains": [chains.plain(chain) for chain in result.chains],
        "failures": [_plain_failure(failure) for failure in result.failures],
        "misses": [
            {"change": m.change.value, "people": m.people, "binding": chains.plain_binding(m.binding)}
            for m in result.misses
        ],
    }


def _plain_failure(failure: Failure) -> dict[str, Any]:
    return {
        "failing": failure.failing.value,
        "roles": list(failure.roles),
        "bindings": [chains.plain_binding(b) for b in failure.bindings],
        **chains.plain_source(failure.source),
    }


def sheet(result: Answer) -> Sheet:
    """One row for each step of each chain."""
    asked = (result.user, result.action, result.scope, "yes" if result.allowed else "no")
    rows: list[tuple[object, ...]] = [
        (*asked, way, step.kind, step.sentence, step.source.file, step.source.line)
        for way, chain in enumerate(result.chains, 1)
        for step in chains.steps(chain)
    ]
    rows += [(*asked, 0, failure.failing.value, "", "", "") for failure in result.failures]
    return Sheet(("user", "action", "scope", "answer", "way", "step", "sentence", "file", "line"), rows)


def text(result: Answer, look: Look) -> str:
    """The answer for a person."""
    return render(_yes(result) if result.allowed else _no(result), look)


def _yes(result: Answer) -> Iterator[Line]:
    yield line(("yes", "yes"), f"  {result.user} may {result.action} at {result.scope}", hanging="     ")
    for number, chain in enumerate(result.chains):
        yield line()
        if number:
            yield line((f"  another way ({number + 1} of {len(result.chains)})", "head"))
        yield from _chain(result.user, chain)


def _chain(user: str, chain: Chain) -> Iterator[Line]:
    yield line("  ", (user, "name"))
    told = chains.steps(chain)
    for number, step in enumerate(told, 1):
        last = number == len(told)
        branch, hanging = ("  └─ ", "     ") if last else ("  ├─ ", "  │  ")
        yield line((branch, "tree"), *step.spans, source=step.source, hanging=hanging)
        if step.kind == "given":
            yield line((hanging, "tree"), (f"because: {chain.binding.reason}", "dim"), hanging=hanging)


def _no(result: Answer) -> Iterator[Line]:
    yield line(("no", "no"), f"  {result.user} may not {result.action} at {result.scope}", hanging="    ")
    for failure in result.failures:
        yield line()
        yield from _failure(result, failure)
    if result.misses:
        yield line()
        yield line(("  what one change would turn it into a yes", "head"))
    for miss in result.misses[:_MOST_MISSES]:
        yield from _miss(result, miss)
    left = len(result.misses) - _MOST_MISSES
    if left > 0:
        yield line((f"  and {left} more: see --format json", "dim"))


def _failure(result: Answer, failure: Failure) -> Iterator[Line]:
    said = {
        Failing.DISABLED: f"the account of {result.user} is disabled, so it may do nothing anywhere",
        Failing.NOT_APPLICABLE: f"{result.action} does not apply to that kind of scope",
        Failing.NO_ROLE: f"no role holds {result.action}",
        Failing.NO_BINDING: f"no binding gives {result.action} here",
        Failing.NOT_A_MEMBER: f"{result.action} is given here, but {result.user} is none of those:",
    }
    yield line("  ", (said[failure.failing], "head"), source=failure.source, hanging="  ")
    if failure.roles:
        yield line(f"     it is held by {', '.join(failure.roles)}, which nobody is given here", hanging="     ")
    for binding in failure.bindings:
        spans = ("  ·  ", (str(binding.principal), "name"), f" is given {binding.role} at {binding.scope}")
        yield line(*spans, source=binding.source, hanging="     ")


def _miss(result: Answer, miss: Miss) -> Iterator[Line]:
    binding = miss.binding
    people = f"{miss.people} {'person' if miss.people == 1 else 'people'}"
    said = {
        Change.ENABLE: (f"enable the account: {binding.principal} has {binding.role} at {binding.scope}",),
        Change.JOIN: ("join ", (str(binding.principal), "name"), f", which has {binding.role} at {binding.scope}"),
        Change.GIVE_HERE_TOO: (
            f"give {binding.role} to ",
            (str(binding.principal), "name"),
            f" here too, not only at {binding.scope}; that reaches {people}",
        ),
        Change.ALLOW_IN_ROLE: (
            f"let {binding.role} allow {result.action}: ",
            (str(binding.principal), "name"),
            f" has it at {binding.scope}; that reaches {people}",
        ),
    }
    yield line("  ·  ", *said[miss.change], source=binding.source, hanging="     ")
