"""What probing found: nothing, or who really gets more or less than is declared."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from typing import Literal

from justlane.model.names import counted
from justlane.platforms.interface import Shown
from justlane.platforms.proof.probe import Difference, ProbeResult, Proof
from justlane.reports.outputs.platforms import Difference as DifferenceJson
from justlane.reports.outputs.platforms import Probe as ProbeJson
from justlane.reports.outputs.platforms import Shown as ShownJson
from justlane.reports.text.lines import Line, line, render
from justlane.reports.text.look import Look, Sheet

_MOST_SHOWN, _MOST_SITUATIONS = 3, 6
_WORD = {True: "yes", False: "no", None: "not tried"}


def plain(result: ProbeResult) -> ProbeJson:
    """The result as JSON values."""
    return {
        "platform": result.platform,
        "people": result.people,
        "scopes": result.scopes,
        "coverage": {
            "people": result.coverage.people,
            "scopes": result.coverage.scopes,
            "kinds_of_people": result.coverage.kinds_of_people,
            "kinds_of_scopes": result.coverage.kinds_of_scopes,
            "drawn_people": result.coverage.drawn_people,
            "drawn_scopes": result.coverage.drawn_scopes,
            "unseen_people": result.coverage.unseen_people,
            "unseen_scopes": result.coverage.unseen_scopes,
            "seed": result.coverage.seed if result.coverage.kinds_of_people else None,
        },
        "strength": strength(result),
        "asked": result.asked,
        "tried": result.tried,
        "kept_out": list(result.kept_out),
        "let_in": list(result.let_in),
        "shut_out": list(result.shut_out),
        "no_means": list(result.no_means),
        "situations": list(result.situations),
        "proofs": [
            {"action": action, "asked": proof.asked, "tried": proof.tried, "known_by": known_by(proof)}
            for action, proof in result.proofs.items()
        ],
        "news": {
            "since": result.news.since,
            "new": [_plain_difference(d) for d in result.news.new],
            "gone": [_plain_difference(d) for d in result.news.gone],
        }
        if result.news
        else None,
        "differences": [_plain_difference(d) for d in result.differences],
        "untried": result.untried,
        "unanswered": result.unanswered,
        "unjudged": list(result.unjudged),
        "looked": result.looked,
        "shown_wrongly": [
            {
                "user": s.user,
                "scope": s.scope,
                "declared": _plain_shown(s.declared),
                "shown": _plain_shown(s.shown),
                "situation": s.situation,
            }
            for s in result.shown_wrongly
        ],
    }


def _plain_difference(d: Difference) -> DifferenceJson:
    return {
        "user": d.user,
        "action": d.action,
        "scope": d.scope,
        "declared": d.declared,
        "says": d.says,
        "does": d.does,
        "situation": d.situation,
    }


def known_by(proof: Proof) -> Literal["trying", "asking", "nothing"]:
    """By what an action is known: by trying, by asking alone, or not at all."""
    return "trying" if proof.tried else "asking" if proof.asked else "nothing"


def _plain_shown(shown: Shown | None) -> ShownJson | None:
    return {"lists": list(shown.lists), "total": shown.total} if shown else None


def sheet(result: ProbeResult) -> Sheet:
    """One row for each difference; an account that wrongly may, or may not, sign in is one too."""
    rows = [(login, "(sign in)", result.platform, "yes", "", "no") for login in result.kept_out]
    rows += [(login, "(sign in)", result.platform, "no", "", "yes") for login in result.let_in]
    rows += [(d.user, d.action, d.scope, _WORD[d.declared], _WORD[d.says], _WORD[d.does]) for d in result.differences]
    rows += [
        (s.user, "(see)", s.scope, _seen(s.declared), _seen(s.shown), _seen(s.shown)) for s in result.shown_wrongly
    ]
    return Sheet(("user", "action", "scope", "declared", "platform says", "trying gives"), rows)


def _seen(shown: Shown | None) -> str:
    return f"{len(shown.lists)} listed, {shown.total} in all" if shown else "not shown"


def text(result: ProbeResult, look: Look) -> str:
    """The result for a person: more than declared first."""
    return render(_lines(result), look)


def _lines(result: ProbeResult) -> Iterator[Line]:
    differs = result.kept_out or result.let_in or result.differences or result.shown_wrongly
    word = ("proved", "yes") if result.clean else ("differs", "no") if differs else ("not proved yet", "warn")
    who = "everybody gets" if result.everywhere else "everybody who was tried gets"
    said = f"{who} on {result.platform} what is declared, no more and no less"
    if not result.clean:
        said = (
            f"{result.platform} does not do what is declared"
            if differs
            else f"what {result.platform} holds cannot all be judged"
            if result.unjudged
            else f"nothing is known against {result.platform}"
        )
    yield line(word, f"  {said}")
    margin = " " * (len(word[0]) + 2)
    for told in (_of_whom(result), _done(result), *_by_what(result), strength(result), *_news(result)):
        yield line((margin + told, "dim"), hanging=margin)
    for said in result.unjudged:
        yield line(("not judged", "no"), f"  {said}", hanging=margin)
    yield from _sign_ins(result)
    more = [d for d in result.differences if d.more]
    less = [d for d in result.differences if not d.more]
    for title, some in (("more than declared", more), ("less than declared", less)):
        if some:
            yield line()
            yield line((f"  {title}: {len(some)} cell{'s' * (len(some) != 1)}", "head"))
            yield from _grouped(some)
    yield from _shown(result)


def _of_whom(result: ProbeResult) -> str:
    """As whom and where."""
    cover = result.coverage
    people = _of(result.people, cover.people, "person", "people", cover.kinds_of_people, cover.drawn_people)
    scopes = _of(result.scopes, cover.scopes, "scope", "scopes", cover.kinds_of_scopes, cover.drawn_scopes)
    return f"{people}; {scopes}" + (f"; seed {cover.seed}" if cover.kinds_of_people else "")


def _of(some: int, all_: int, one: str, many: str, kinds: int, drawn: int) -> str:
    if not kinds:
        return counted(all_, one, many)
    more = f" and {drawn:,} more" if drawn else ""
    return f"{some:,} of {counted(all_, one, many)} ({counted(kinds, 'kind')}{more})"


def _done(result: ProbeResult) -> str:
    answers = counted(sum(proof.asked for proof in result.proofs.values()), "answer")
    actions = counted(result.tried, "action")
    done = f"{answers} compared, {actions} really tried"
    done += f", {counted(result.looked, 'list')} looked at" if result.looked else ""
    if result.shut_out:
        done += f"; not signed in, being disabled or given nothing: {_some(result.shut_out, 'person', 'people')}"
    if result.no_means:
        done += f"; not signed in, for want of a password: {_some(result.no_means, 'person', 'people')}"
    return done


def _by_what(result: ProbeResult) -> Iterator[str]:
    """Which actions are known otherwise than by trying, and in how many situations."""
    if len(result.situations) > 1:
        names = [name or "nothing known of where they come from" for name in result.situations]
        more = f"; and {len(names) - _MOST_SITUATIONS} more" if len(names) > _MOST_SITUATIONS else ""
        yield f"in each of {len(names)}: {'; '.join(names[:_MOST_SITUATIONS])}{more}"
    known: dict[str, list[str]] = {}
    for action, proof in result.proofs.items():
        known.setdefault(known_by(proof), []).append(action)
    if set(known) - {"trying"}:
        said = {"trying": "by trying", "asking": "by asking alone", "nothing": "not at all"}
        yield "; ".join(f"{words}: {', '.join(known[how])}" for how, words in said.items() if how in known)


def _news(result: ProbeResult) -> Iterator[str]:
    if result.news is None:
        return
    new, gone = len(result.news.new), len(result.news.gone)
    when = result.news.since.replace("T", " ").removesuffix("+00:00")
    if new or gone:
        yield f"since {when} UTC: {counted(new, 'difference')} new, {gone:,} gone"
    else:
        yield f"since {when} UTC nothing is new"


def strength(result: ProbeResult) -> str:
    """One honest sentence: what this proves, and what it would not have seen."""
    if result.unanswered:
        return f"{counted(result.unanswered, 'trial')} on the form without an answer: of these nothing is known."
    if not result.tried:
        return "Nothing was tried: what the platform really does may be otherwise than it says."
    rests = ""
    if result.untried:
        count = counted(result.untried, "trial")
        rests = f" Of {count} there is none without harm, so there it rests on the platform's own answer."
    unseen = result.coverage.unseen_people, result.coverage.unseen_scopes
    if any(unseen):
        people, scopes = unseen
        rests = f" Of {people:,} kinds of people and {scopes:,} kinds of scopes nothing is known.{rests}"
    if not result.everywhere:
        told = "Each stands for others of its kind"
        return f"{told}: what the platform does for one person, or at one scope, alone is found with --everyone.{rests}"
    if not result.tried_all and result.tried + result.untried < result.asked - _out(result):
        share = f"{max(100 * result.tried // result.asked, 1)} %"
        told = f"Everything was compared as everybody, and {share} of it tried"
        return f"{told}: what the platform does elsewhere against its own answer is found with --thorough.{rests}"
    where = "in these situations" if len(result.situations) > 1 else "in this one situation"
    return f"Everything was compared as everybody and tried as everybody who can sign in, {where}.{rests}"


def _out(result: ProbeResult) -> int:
    """Cells of those as whom nothing was tried."""
    cells = result.asked // max(result.people, 1)
    return cells * (len(result.kept_out) + len(result.shut_out) + len(result.no_means))


def _shown(result: ProbeResult) -> Iterator[Line]:
    """Everyone to whom the same place is shown wrongly in the same way shares a line."""
    alike: dict[tuple[str, str, str], list[str]] = {}
    for s in result.shown_wrongly:
        alike.setdefault((s.scope, _seen(s.declared), _seen(s.shown)), []).append(s.user)
    if alike:
        yield line()
        yield line((f"  shown otherwise than declared: {counted(len(alike), 'place')}", "head"))
    for (scope, declared, shown), users in alike.items():
        who = (_some(users, "person", "people"), "name")
        yield line("  ·  ", who, f": {scope}", hanging="     ")
        yield line((f"     declared {declared}, the platform shows {shown}", "dim"), hanging="     ")


def _sign_ins(result: ProbeResult) -> Iterator[Line]:
    for names, said in ((result.let_in, "disabled, yet let in"), (result.kept_out, "enabled, yet kept out")):
        if names:
            yield line()
            yield line((f"  {said}: ", "head"), ", ".join(names), hanging="    ")


def _grouped(differences: list[Difference]) -> Iterator[Line]:
    """Everyone who differs alike, in one action at the same places, shares a line."""
    places: dict[tuple[str, str, bool | None, bool | None, str], list[str]] = {}
    for d in differences:
        places.setdefault((d.user, d.action, d.says, d.does, d.situation), []).append(d.scope)
    alike: dict[tuple[str, bool | None, bool | None, str, tuple[str, ...]], list[str]] = {}
    first = {(d.user, d.action, d.says, d.does, d.situation): d for d in reversed(differences)}
    for (user, action, says, does, situation), scopes in places.items():
        alike.setdefault((action, says, does, situation, tuple(scopes)), []).append(user)
    for (action, says, does, situation, where), users in alike.items():
        d = first[users[0], action, says, does, situation]
        spans = (
            "  ·  ",
            (_some(users, "person", "people"), "name"),
            f": {action} at {_some(where, 'scope', 'scopes')}{f' ({situation})' if situation else ''}",
        )
        yield line(*spans, hanging="     ")
        word = "cannot be asked" if d.says is None else f"says {_WORD[d.says]}"
        tried = "it was not tried" if d.does is None else f"trying gives {_WORD[d.does]}"
        told = f"declared {_WORD[d.declared]}, the platform {word}, {tried}"
        yield line((f"     {told}", "dim"), hanging="     ")


def _some(names: Sequence[str], one: str, many: str) -> str:
    """A few of the names, and how many there are when not all are named."""
    shown = ", ".join(names[:_MOST_SHOWN])
    left = len(names) - _MOST_SHOWN
    return f"{shown} and {left} more {one if left == 1 else many}" if left > 0 else shown
