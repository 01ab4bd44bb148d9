"""Whose an account of a platform is, in the platform's file."""

from __future__ import annotations

from collections.abc import Mapping

from justlane.files.editing.draft import Draft
from justlane.files.in_place.scalars import Value
from justlane.model.accounts import AccountKind, kind_and_whom
from justlane.model.estate import Platform

ACCOUNTS, KNOWN = "accounts", "known"
_BEFORE = ("platform", "for", "owner", "habits", "reached by", "manages")


def say(draft: Draft, platform: Platform, whose: Mapping[str, str], because: str) -> None:
    """Write down, account by account, whose each is: `user LOGIN`, `also user LOGIN`, `machine of group NAME`, `gone`.
    What was said before of one of them is replaced; `because` is for machines."""
    document = draft.document(platform.source.file)
    said: dict[str, Value] = {name: _value(who, because) for name, who in whose.items()}
    if not document.has((ACCOUNTS,)):
        document.put((ACCOUNTS,), {KNOWN: said}, _BEFORE)
    elif not document.has((ACCOUNTS, KNOWN)):
        document.put((ACCOUNTS, KNOWN), said, ("from", "becomes", "written"))
    else:
        for name, value in said.items():
            document.put((ACCOUNTS, KNOWN, name), value)


def _value(who: str, because: str) -> Value:
    said = kind_and_whom(who)
    if said is None or said[0] is not AccountKind.MACHINE or not because:
        return who
    return {said[0].value: said[1], "because": because}
