"""What would give somebody what they need, or take it away: each choice with all that it does besides."""

from __future__ import annotations

from collections.abc import Collection, Iterator

from justlane.engine.offers.together import Offer, Offers, OfferStep, WantedCell
from justlane.model.bindings import Binding
from justlane.model.edits import (
    AllowInRole,
    DropRole,
    Edit,
    Enable,
    Give,
    Join,
    KeepInRole,
    Leave,
    LeaveOutOfRole,
    Publish,
    Unpublish,
    Withdraw,
)
from justlane.model.findings import Source
from justlane.model.names import counted
from justlane.model.people import PrincipalKind
from justlane.model.shell import spelt
from justlane.reports.outputs.edits import Need as NeedJson
from justlane.reports.outputs.edits import Offers as OffersJson
from justlane.reports.parts.conditions import typed
from justlane.reports.parts.edits import against, against_all, effect_text, plain_edit, plain_effect
from justlane.reports.text.lines import Line, line, render
from justlane.reports.text.look import Look, Sheet


def plain(result: Offers) -> OffersJson:
    """The offers as JSON values."""
    return {
        "needs": [_plain_need(need) for need in result.needs],
        "take_away": result.take_away,
        "met": [_plain_need(need) for need in result.met],
        "impossible": [_plain_need(need) for need in result.impossible],
        "offers": [
            {
                "edits": [plain_edit(step.edit) for step in offer.steps],
                "sentences": [sentence(step.edit) for step in offer.steps],
                "commands": [_made(step, offer) for step in offer.steps],
                "against": [refusal.message for refusal in offer.against],
                "excess": offer.excess,
                "proven": offer.proven,
                "effect": plain_effect(offer.effect),
            }
            for offer in result.offers
        ],
    }


def _plain_need(need: WantedCell) -> NeedJson:
    return {"user": need.user, "action": need.action, "scope": need.scope}


def sheet(result: Offers) -> Sheet:
    """One row for each edit of each offer."""
    rows = [
        (number, sentence(step.edit), _made(step, offer) or "", offer.excess, "yes" if offer.proven else "no")
        for number, offer in enumerate(result.offers, 1)
        for step in offer.steps
    ]
    return Sheet(("offer", "edit", "command", "excess", "proven"), rows)


def text(result: Offers, look: Look) -> str:
    """The offers for a person."""
    return render(_lines(result), look)


def _lines(result: Offers) -> Iterator[Line]:
    may = "may not" if result.take_away else "may"
    for need in result.met:
        yield line(("holds    ", "yes"), f"{need.user} {may} {need.action} at {need.scope} already", hanging=" " * 9)
    for need in result.impossible:
        told = f"nothing that is known would do it: {need.user} {may} {need.action} at {need.scope}"
        yield line(("none     ", "no"), told, hanging=" " * 9)
    alike = against_all(offer.against for offer in result.offers)
    for number, offer in enumerate(result.offers, 1):
        yield from ([line()] if number > 1 or result.met or result.impossible else [])
        yield from _offer(number, offer, alike)
    for said in alike:
        yield line()
        yield line(("against each of them  ", "warn"), said, hanging="  ")


def _offer(number: int, offer: Offer, alike: Collection[str]) -> Iterator[Line]:
    least = "nothing besides" if not offer.excess else f"{counted(offer.excess, 'cell')} besides"
    proof = "" if offer.proven else ", not proven to be the least"
    yield line((f"{number}", "head"), f"  {least}{proof}")
    for step in offer.steps:
        yield line("  ·  ", sentence(step.edit), source=_line_of(step), hanging="     ")
        made = _made(step, offer)
        if made:
            yield line((f"     {made}", "dim"), hanging="       ")
    yield line((f"     {effect_text(offer.effect)}", "dim"), hanging="     ")
    yield from against(offer.against, alike)


def _made(step: OfferStep, offer: Offer) -> str | None:
    """The command for a step; with a reason why all the same, where something speaks against it."""
    made = command(step.edit)
    return f"{made} --even-so …" if made and offer.against else made


def _line_of(step: OfferStep) -> Source | None:
    new = isinstance(step.edit, Give) and step.edit.bindings[0] is step.binding
    return step.binding.source if step.binding and not new else None


def sentence(edit: Edit) -> str:
    """An edit in words."""
    match edit:
        case Give(bindings=(first, *_)) | Withdraw(bindings=(first, *_)):
            what = f"bundle {first.bundle}" if first.bundle else first.role
            verb = ("give" if first.allows else "deny") if isinstance(edit, Give) else "withdraw"
            side = "to" if isinstance(edit, Give) else "from"
            return f"{verb} {what} {side} {first.principal}" + ("" if first.bundle else f" at {first.scope}")
        case AllowInRole(role=role, action=action):
            return f"let {role} allow {action}"
        case KeepInRole(role=role, pattern=pattern):
            return f"let {role} leave {pattern.text} out no longer"
        case LeaveOutOfRole(role=role, action=action):
            return f"let {role} leave {action} out"
        case Publish(group=group, scope=scope):
            return f"publish {group} to {scope}"
        case Unpublish(group=group, scope=scope):
            return f"unpublish {group} from {scope}"
        case DropRole(platform=platform, role=role):
            return f"take the role {role} out of {platform}"
        case Join(login=login, group=group):
            return f"let {login} join {group}"
        case Leave(login=login, group=group):
            return f"let {login} leave {group}"
        case Enable(login=login):
            return f"enable the account of {login}"
    return ""


def command(edit: Edit) -> str | None:
    """The command that makes an edit; None for what only the directory can do."""
    match edit:
        case Give(bindings=(first, *_)):
            return _giving(first, last=edit.last)
        case Withdraw(bindings=(first, *_)):
            what = ["bundle", first.bundle] if first.bundle else [first.role]
            where = [] if first.bundle else ["--at", first.pattern or first.scope]
            line = ["--line", first.source.line_address] if edit.by_line else [] if where else ["--everywhere"]
            return _said("withdraw", *what, "--from", str(first.principal), *where, *line)
        case AllowInRole(platform=on, role=role, action=action):
            return _said("role", "allow", role, action, "--on", on)
        case KeepInRole(platform=on, role=role, pattern=pattern):
            return _said("role", "allow", role, pattern.text, "--on", on)
        case LeaveOutOfRole(platform=on, role=role, action=action):
            return _said("role", "except", role, action, "--on", on)
        case Publish(group=group, scope=scope):
            return _said("publish", group, "--to", scope)
        case Unpublish(group=group, scope=scope):
            return _said("unpublish", group, "--from", scope)
        case Join(login=login, group=group, platform=on) if group.kind is PrincipalKind.LOCAL_GROUP:
            return _said("local-group", "put", group.name, f"user {login}", "--on", on, "--because", "…")
        case Leave(login=login, group=group, platform=on) if group.kind is PrincipalKind.LOCAL_GROUP:
            return _said("local-group", "take", group.name, f"user {login}", "--on", on)
    return None


def _giving(given: Binding, *, last: bool) -> str:
    what = ["bundle", given.bundle] if given.bundle else [given.role]
    where = [] if given.bundle else ["--at", given.scope]
    here = ["--here-only"] if given.here_only else []
    here += ["--as-account", given.account] if given.account else []
    verb = "give" if given.allows else "deny"
    when = [word for said in typed(given.condition) for word in ("--when", said)]
    first, end = given.condition.first_day, given.condition.last_day
    days = [*(("--from", str(first)) if first else ()), *(("--until", str(end)) if end else ())]
    spot = ["--last"] if last else []
    to = ["--to", str(given.principal)]
    return _said(verb, *what, *to, *where, *here, *when, *days, *spot, "--because", given.reason)


def _said(*words: str) -> str:
    return spelt(*words)
