"""One question, answered: yes or only if with every chain, no with what fails and what would turn it."""

from __future__ import annotations

from collections.abc import Iterator
from datetime import date

from justlane.engine.decision.explanation import Answer, Chain, Failing, Failure, Need
from justlane.engine.offers.suggestions import Miss, Reply, Turn
from justlane.model.bindings import Binding, Ceiling
from justlane.model.circumstances import Outcome
from justlane.model.edits import AllowInRole, Give, Join, KeepInRole, Publish
from justlane.model.findings import Source
from justlane.reports.outputs.answers import Ask as AskJson
from justlane.reports.outputs.answers import Ceiling as CeilingJson
from justlane.reports.outputs.answers import Failure as FailureJson
from justlane.reports.outputs.answers import Miss as MissJson
from justlane.reports.parts import chains
from justlane.reports.parts.conditions import box_text, boxes_text, condition_text, plain_boxes
from justlane.reports.parts.edits import (
    against,
    against_all,
    effect_text,
    extent_text,
    plain_edit,
    plain_effect,
    plain_extent,
)
from justlane.reports.text.lines import Line, Span, line, render
from justlane.reports.text.look import Look, Sheet

_MOST_MISSES = 5


def plain(result: Reply) -> AskJson:
    """The answer as JSON values; each binding stands there once, and the rest names it by its place."""
    answer, bindings = result.answer, chains.References()
    found: AskJson = {
        "user": answer.user,
        "action": answer.action,
        "scope": answer.scope,
        "answer": answer.outcome.value,
        "conditions": plain_boxes(answer.conditions),
        "roles": list(answer.roles),
        "needs": [
            {
                "action": n.action,
                "scope": n.scope,
                **chains.plain_source(n.source),
                "chains": [chains.plain(c, bindings) for c in n.chains],
            }
            for n in answer.needs
        ],
        "chains": [chains.plain(chain, bindings) for chain in answer.chains],
        "ceilings": [_plain_ceiling(ceiling) for ceiling in answer.ceilings],
        "failures": [_plain_failure(failure, bindings) for failure in answer.failures],
        "misses": [_plain_miss(miss, bindings) for miss in result.misses],
        "bindings": [],
    }
    found["bindings"] = bindings.plain  # last: all of the above names bindings by their place in it
    return found


def _plain_ceiling(ceiling: Ceiling) -> CeilingJson:
    return {
        "never": list(ceiling.patterns),
        "to": str(ceiling.principal),
        "but_not_to": [str(principal) for principal in ceiling.but_not],
        "when": condition_text(ceiling.condition) or None,
        "reason": ceiling.reason,
        **chains.plain_source(ceiling.source),
    }


def _plain_failure(failure: Failure, bindings: chains.References) -> FailureJson:
    return {
        "failing": failure.failing.value,
        "action": failure.action,
        "scope": failure.scope,
        "roles": list(failure.roles),
        "reason": failure.reason or None,
        "bindings": [bindings.to(b) for b in failure.bindings],
        **chains.plain_source(failure.source),
    }


def _plain_miss(miss: Miss, bindings: chains.References) -> MissJson:
    return {
        "change": miss.turn.value,
        "role": miss.role or None,
        "conditions": plain_boxes(miss.conditions),
        "binding": _known(miss, bindings),
        "edit": plain_edit(miss.edit) if miss.edit else None,
        "reaches": plain_extent(miss.extent) if miss.extent else None,
        "effect": plain_effect(miss.effect) if miss.effect else None,
        "against": [refusal.message for refusal in miss.against],
    }


def _known(miss: Miss, bindings: chains.References) -> int | None:
    """The binding that a suggestion starts from, where there is one already."""
    return None if miss.binding is None or miss.turn is Turn.GIVE_ANEW else bindings.to(miss.binding)


def sheet(result: Reply) -> Sheet:
    """One row for each step of each chain."""
    answer = result.answer
    asked = (answer.user, answer.action, answer.scope, answer.outcome.value)
    rows: list[tuple[object, ...]] = [
        (
            *asked,
            boxes_text(chain.circumstances) or "always",
            way,
            step.kind,
            step.sentence,
            step.source.file,
            step.source.line,
        )
        for way, chain in enumerate(answer.chains, 1)
        for step in chains.steps(chain)
    ]
    rows += [(*asked, "never", 0, failure.failing.value, "", "", "") for failure in answer.failures]
    return Sheet(("user", "action", "scope", "answer", "when", "way", "step", "sentence", "file", "line"), rows)


def text(result: Reply, look: Look) -> str:
    """The answer for a person."""
    return render(_no(result) if result.answer.outcome is Outcome.NO else _yes(result.answer), look)


def _yes(answer: Answer) -> Iterator[Line]:
    only_if = answer.outcome is Outcome.ONLY_IF
    mark: Span = ("only if", "warn") if only_if else ("yes", "yes")
    role = f", acting as {' or '.join(answer.roles)}" if answer.roles else ""
    hanging = " " * (len(mark[0]) + 2)
    yield line(mark, f"  {answer.user} may {answer.action} at {answer.scope}{role}", hanging=hanging)
    for number, box in enumerate(answer.conditions):
        yield line(("  or  " if number else "      ", "dim"), (box_text(box), "warn"), hanging="      ")
    for number, chain in enumerate(answer.chains):
        yield line()
        if number:
            yield line((f"  another way ({number + 1} of {len(answer.chains)})", "head"))
        yield from _chain(answer.user, chain, told=only_if and chain.circumstances != answer.conditions)
    for ceiling in answer.ceilings:
        yield line()
        yield from _ceiling(ceiling)
    for need, places, chain in _needs(answer):
        yield line()
        yield line(
            (f"  which also takes {need.action} at {', '.join(places)}", "head"), source=need.source, hanging="    "
        )
        yield from _chain(answer.user, chain, told=only_if and bool(chain.circumstances))


def _ceiling(ceiling: Ceiling) -> Iterator[Line]:
    condition = condition_text(ceiling.condition)
    but_not = f" but not to {', '.join(map(str, ceiling.but_not))}" if ceiling.but_not else ""
    said = f" to {ceiling.principal}{but_not}" + (f", {condition}" if condition else "")
    yield line(("  never ", "head"), ", ".join(ceiling.patterns), said, source=ceiling.source, hanging="    ")
    if ceiling.reason:
        yield line((f"    because: {ceiling.reason}", "dim"), hanging="    ")


def _needs(answer: Answer) -> list[tuple[Need, list[str], Chain]]:
    """What it takes besides; places that the same binding opens share a chain."""
    found: dict[tuple[str, int], tuple[Need, list[str], Chain]] = {}
    for need in answer.needs:
        for chain in need.chains[:1]:
            found.setdefault((need.action, id(chain.binding)), (need, [], chain))[1].append(need.scope)
    return list(found.values())


def _chain(user: str, chain: Chain, *, told: bool) -> Iterator[Line]:
    yield line("  ", (user, "name"))
    steps = chains.steps(chain)
    for number, step in enumerate(steps, 1):
        last = number == len(steps)
        branch, hanging = ("  └─ ", "     ") if last else ("  ├─ ", "  │  ")
        yield line((branch, "tree"), *step.spans, source=step.source, hanging=hanging)
        if step.kind == "given":
            yield line((hanging, "tree"), (f"because: {chain.binding.reason}", "dim"), hanging=hanging)
            condition = condition_text(chain.binding.condition)
            if condition:
                yield line((hanging, "tree"), (f"when: {condition}", "dim"), hanging=hanging)
    if told and chain.circumstances:
        yield line((f"     so it counts {boxes_text(chain.circumstances)}", "dim"), hanging="     ")


def _no(result: Reply) -> Iterator[Line]:
    answer = result.answer
    yield line(("no", "no"), f"  {answer.user} may not {answer.action} at {answer.scope}", hanging="    ")
    for failure in answer.failures:
        yield line()
        yield from _failure(answer.user, failure)
    if result.misses:
        yield line()
        yield line(("  what one change would turn it into a yes", "head"))
    shown = result.misses[:_MOST_MISSES]
    alike = against_all(miss.against for miss in shown if miss.edit)
    for miss in shown:
        yield line("  ·  ", *_miss(answer, miss), source=_line_of(miss), hanging="     ")
        if miss.effect or miss.extent:
            said = effect_text(miss.effect) if miss.effect else extent_text(miss.extent)
            yield line((f"     {said}", "dim"), hanging="     ")
        yield from against(miss.against, alike)
    for said in alike:
        yield line(("  against each of them  ", "warn"), said, hanging="  ")
    left = len(result.misses) - _MOST_MISSES
    if left > 0:
        yield line((f"  and {left} more: see --format json", "dim"))


_SAID = {
    Failing.DISABLED: "the account of {user} is disabled, so it may do nothing anywhere",
    Failing.ENDED: "the account of {user} has ended, so it may do nothing anywhere",
    Failing.NOT_APPLICABLE: "{action} does not apply to that kind of scope",
    Failing.CEILING: "a ceiling takes {action} away, whatever is bound",
    Failing.NOT_THEIR_ROLE: "{user} does not have the role that was named",
    Failing.NO_SIGN_IN: "{user} may not sign in: that takes {action} at {scope}",
    Failing.NOT_ON_THE_WAY: "{user} cannot get there: that takes {action} at {scope}",
    Failing.NO_ROLE: "no role holds {action}",
    Failing.LEFT_OUT: "{role} leaves {action} out on purpose:",
    Failing.NO_BINDING: "no binding gives {action} here",
    Failing.NOT_A_MEMBER: "{action} is given here, but {user} is none of those:",
    Failing.NOT_PUBLISHED: "{action} is given here to groups that are not published here:",
    Failing.OTHER_ROLE: "{action} is given here, but in another role than the active one:",
    Failing.NOT_TODAY: "{action} is given here, but not on that day:",
    Failing.CIRCUMSTANCES: "{action} is given here, but in other circumstances:",
    Failing.DENIED: "{action} is given here, and denied:",
    Failing.OVERRULED: "{action} is given here, and a later line takes it away:",
    Failing.NEVER_TOGETHER: "all that {action} takes is given, but never in the same circumstances",
    Failing.NEARER: "{action} is given further up, but a nearer scope decides alone, and does not give it:",
}


def _failure(user: str, failure: Failure) -> Iterator[Line]:
    named = {"user": user, "action": failure.action, "scope": failure.scope, "role": ", ".join(failure.roles)}
    said = _SAID[failure.failing].format(**named)
    if failure.today:
        ended = [b.condition.last_day is not None and b.condition.last_day < failure.today for b in failure.bindings]
        said = "was given here, and that has ended" if all(ended) else "is given here, but not today"
        said = f"{failure.action} {said}:"
    yield line("  ", (said, "head"), source=failure.source, hanging="  ")
    if failure.reason:
        yield line((f"     because: {failure.reason}", "dim"), hanging="     ")
    if failure.roles and failure.failing is not Failing.LEFT_OUT:
        told = "they can act as" if failure.failing is Failing.NOT_THEIR_ROLE else "it is held by"
        rest = "" if failure.failing is Failing.NOT_THEIR_ROLE else ", which nobody is given here"
        yield line(f"     {told} {named['role']}{rest}", hanging="     ")
    for binding in failure.bindings:
        yield line("  ·  ", *_binding(binding, failure.today), source=binding.source, hanging="     ")


def _binding(binding: Binding, today: date | None) -> tuple[Span | str, ...]:
    condition = condition_text(binding.condition, today)
    verb = "is given" if binding.allows else "is denied"
    tail = f" {verb} {binding.role} at {binding.scope}" + (f", {condition}" if condition else "")
    return ((str(binding.principal), "name"), tail)


def _miss(answer: Answer, miss: Miss) -> tuple[Span | str, ...]:
    if miss.turn is Turn.CIRCUMSTANCES:
        return ("in other circumstances: ", (boxes_text(miss.conditions) or "any others", "warn"))
    if miss.turn is Turn.ROLE:
        return (f"act as {miss.role}",)
    if miss.ceiling is not None and isinstance(miss.edit, Join):
        return ("join ", (str(miss.edit.group), "name"), f", which the ceiling for {miss.ceiling.principal} leaves out")
    if miss.turn is Turn.ENABLE or miss.binding is None:
        return ("enable the account",)
    binding = miss.binding
    who: Span = (str(binding.principal), "name")
    what = f"{binding.role}, with all of {binding.acting}," if binding.bundle else binding.role
    said: dict[Turn, tuple[Span | str, ...]] = {
        Turn.JOIN: ("join ", who, f", which has {binding.role} at {binding.scope}"),
        Turn.LIFT: ("take out ", who, f" being denied {what} at {binding.scope}"),
        Turn.EXTEND: ("let ", who, f" have {what} at {binding.scope} without its conditions"),
        Turn.LAST: ("give ", who, f" {binding.role} at {binding.scope} again, as the last line"),
    }
    match miss.edit:
        case Publish(scope=scope):
            return ("publish ", who, f" to {scope}")
        case AllowInRole(role=role, action=action):
            return (f"let {role} allow {action}: ", who, f" has it at {binding.scope}")
        case KeepInRole(role=role, pattern=pattern):
            return (f"let {role} leave {pattern.text} out no longer: ", who, f" has {binding.role} at {binding.scope}")
        case Give(bindings=(given,)) if miss.turn not in said:
            place = "here" if given.scope == answer.scope else f"at {given.scope}"
            there = f"{place} too, not only at {binding.scope}" if miss.turn is Turn.GIVE_HERE_TOO else place
            end = f", until {given.condition.last_day}" if given.condition.last_day else ""
            return (f"give {given.role} to ", who, f" {there}{end}")
    return said[miss.turn]


def _line_of(miss: Miss) -> Source | None:
    if isinstance(miss.edit, KeepInRole):
        return miss.edit.pattern.source
    if miss.ceiling is not None:
        return miss.ceiling.source
    return miss.binding.source if miss.binding else None
