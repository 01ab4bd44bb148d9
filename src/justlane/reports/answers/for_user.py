"""An answer in plain words, as it can be pasted into a ticket."""

from __future__ import annotations

from collections.abc import Iterator, Mapping

from justlane.engine.decision.explanation import Failing
from justlane.engine.offers.help_desk import ForUser, NamedThing, Way
from justlane.model.circumstances import Outcome
from justlane.model.names import counted
from justlane.reports.outputs.answers import ForUser as ForUserJson
from justlane.reports.parts.conditions import boxes_text
from justlane.reports.text.lines import Line, line, render
from justlane.reports.text.look import Look, Sheet

_MOST_PLACES, _MOST_KINDS = 4, 12
_WHY = {
    Failing.DISABLED: "Your account is disabled. Please ask the service desk to have a look at it.",
    Failing.ENDED: "Your account has ended. Please ask the service desk to have a look at it.",
    Failing.NOT_APPLICABLE: "That cannot be done at a place of this kind; perhaps one inside it is meant.",
    Failing.CEILING: "A rule of the organisation keeps it from you there, whatever roles you have.",
    Failing.NOT_THEIR_ROLE: "You do not have the role that you asked about.",
    Failing.NO_SIGN_IN: "You are not given what it takes to sign in there.",
    Failing.NOT_ON_THE_WAY: "You are not given what it takes to get to that place.",
    Failing.NO_ROLE: "There is no role yet that holds it.",
    Failing.LEFT_OUT: "Your role leaves this out on purpose.",
    Failing.NO_BINDING: "None of your groups is given a role that holds it there.",
    Failing.NOT_A_MEMBER: "It is given there, but not to a group that you are in.",
    Failing.NOT_PUBLISHED: "Your group is not made known to that place.",
    Failing.NOT_TODAY: "It is not given to you on that day.",
    Failing.OTHER_ROLE: "You have it in another of your roles: choose that one when you sign in.",
    Failing.CIRCUMSTANCES: "You have it, but not in these circumstances.",
    Failing.DENIED: "It is taken away from you there on purpose.",
    Failing.OVERRULED: "Another line, which comes later, decides otherwise.",
    Failing.NEARER: "Something nearer to that place decides otherwise.",
    Failing.NEVER_TOGETHER: "What it takes for that never holds at the same time.",
}


def plain(result: ForUser) -> ForUserJson:
    """The answer as JSON values."""
    answer, way = result.reply.answer, result.way
    return {
        "user": answer.user,
        "person": result.person,
        "action": answer.action,
        "scope": answer.scope,
        "answer": answer.outcome.value,
        "why": result.why.value if result.why else None,
        "role": way.role.name if way and way.role else None,
        "group": way.group.name if way and way.group else None,
        "owner": way.owner.name if way and way.owner else None,
        "brings": [{"scope": b.scope, "actions": list(b.actions)} for b in way.brings] if way else [],
        "sensitive": list(way.sensitive) if way else [],
        "elsewhere": bool(way and way.elsewhere),
        "text": "\n".join(_paragraphs(result)),
    }


def sheet(result: ForUser) -> Sheet:
    """One row."""
    found: Mapping[str, object] = plain(result)
    columns = ("user", "action", "scope", "answer", "role", "group", "owner", "text")
    return Sheet(columns, [tuple(found[name] or "" for name in columns)])


def text(result: ForUser, look: Look) -> str:
    """The answer, ready to be pasted."""
    return render(_lines(result), look)


def _lines(result: ForUser) -> Iterator[Line]:
    for number, paragraph in enumerate(_paragraphs(result)):
        listed = paragraph.startswith("  ")
        if number and not listed:
            yield line()
        yield line(paragraph, hanging="    " if listed else "")


def _paragraphs(result: ForUser) -> Iterator[str]:
    answer = result.reply.answer
    yield f"Hello {result.person},"
    meaning = f" ({result.meaning.rstrip('.')})" if result.meaning else ""
    yield f"you asked whether you may {answer.action}{meaning} at {answer.scope}."
    if answer.outcome is Outcome.YES:
        role = f" Sign in as {' or '.join(answer.roles)}." if answer.roles else ""
        yield f"Yes, you may.{role} If it does not work all the same, please tell us what you see when you try."
        return
    if answer.outcome is Outcome.ONLY_IF:
        yield f"Yes, but only {boxes_text(answer.conditions)}."
        return
    yield "No, not today. " + (_WHY[result.why] if result.why else "")
    if result.why in (Failing.DISABLED, Failing.ENDED) or result.way is None:
        yield "We cannot name a single change that would give it to you; we will have to look into it with you."
        return
    yield from _way(result.way)


def _way(way: Way) -> Iterator[str]:
    if way.group:
        role = f" It carries the role {_named(way.role)}." if way.role else ""
        yield f"What is missing is the group {_named(way.group)}.{role}"
    elif way.role:
        yield f"What is missing is the role {_named(way.role)}; it would have to be given to a group that you are in."
    else:
        yield "It takes a change of the rules themselves, which an administrator has to decide."
    if way.owner and way.group and not way.owns_group:
        asked = _asked(way.owner, way.owner_is_group)
        yield f"Nobody is named who answers for that group. {asked} for that place: please ask there first."
    elif way.owner and way.group:
        yield f"{_asked(way.owner, way.owner_is_group)} for that group: please ask whether you should be in it."
    elif way.owner:
        yield f"{_asked(way.owner, way.owner_is_group)} for that place: please ask whether you should have it."
    else:
        yield "Nobody is named who answers for it: the service desk will find out whom to ask."
    if way.brings or way.elsewhere:
        yield "It would bring you more than you asked for:"
        alike: dict[tuple[str, ...], list[str]] = {}
        for one in way.brings:
            alike.setdefault(one.actions, []).append(one.scope)
        for actions, scopes in list(alike.items())[:_MOST_KINDS]:
            more = f" and {counted(len(scopes) - _MOST_PLACES, 'more place')}" if len(scopes) > _MOST_PLACES else ""
            yield f"  {', '.join(actions)} at {', '.join(scopes[:_MOST_PLACES])}{more}"
        if len(alike) > _MOST_KINDS:
            yield "  and something else at more places that you see today"
        if way.elsewhere:
            yield "  and something at places that you do not see today"
    if way.sensitive:
        yield f"Some of that needs special care: {', '.join(way.sensitive)}."


def _named(named: NamedThing) -> str:
    return f"{named.name} ({named.purpose.rstrip('.')})" if named.purpose else named.name


def _asked(owner: NamedThing, is_group: bool) -> str:
    if is_group:
        return f"The group {_named(owner)} answers"
    return f"{owner.purpose} ({owner.name}) answers" if owner.purpose else f"{owner.name} answers"
