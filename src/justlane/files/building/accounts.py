"""The accounts of a platform: what is said of them, and whether it can be."""

from __future__ import annotations

from typing import TYPE_CHECKING

from justlane.files.building.bindings import principal_of
from justlane.files.building.lookup import Found, Lookup, error
from justlane.files.reading.yamltext import Text
from justlane.model.accounts import Account, AccountKind, Accounts, Letters
from justlane.model.estate import Decides, Platform, RolesHeld
from justlane.model.findings import Source
from justlane.model.people import Principal, PrincipalKind

if TYPE_CHECKING:
    from justlane.files.reading.account_shapes import AccountShape, AccountsShape


def accounts_of(text: Text, shape: AccountsShape) -> Accounts:
    """How the accounts of a platform are people."""
    known = {name: _account(text, name, one) for name, one in shape.known.items()}
    letters = Letters(shape.written)
    return Accounts(text.key("accounts"), shape.taken_from == "id", shape.becomes, letters, known)


def _account(text: Text, name: str, shape: AccountShape) -> Account:
    kind = AccountKind.OWN if shape.user else AccountKind.ALSO if shape.also_user else AccountKind.GONE
    kind = AccountKind.MACHINE if shape.machine_of else kind
    at = ("accounts", "known", name)
    source = text.source(*at, kind.value) if (*at, kind.value) in text.values else text.source(*at)
    owner = principal_of(shape.machine_of) if shape.machine_of else None
    return Account(name, kind, source, shape.user or shape.also_user, owner, shape.because)


def accounts_checked(lookup: Lookup, platform: Platform) -> Found:
    """Whoever an account is said to be has to be known, and has one of their own at most."""
    if platform.accounts is None:
        return
    own: dict[str, Account] = {}
    for account in platform.accounts.known.values():
        if account.login:
            yield from lookup.name(account.login, lookup.estate.directory.users, "user", account.source)
        if account.owner:
            yield from lookup.principal(account.owner, account.source)
        if account.kind is AccountKind.OWN:
            first = own.setdefault(account.login, account)
            if first is not account:
                message = f"{account.login} has an account already, {first.name} ({first.source.line_address})"
                hint = f"if it is a second one: `{account.name}: also user {account.login}`"
                yield error("wrong-value", account.source, message, hint)


def account_checked(platform: Platform, name: str, principal: Principal, source: Source) -> Found:
    """Something can be given to one account of somebody's only if it is theirs, and counts as it does for them."""
    account = platform.accounts.known.get(name) if platform.accounts else None
    if principal.kind is not PrincipalKind.USER:
        yield error("wrong-value", source, f"`as account` is for a user, found {principal}", "name one user in `to`")
    elif account is None or account.kind is not AccountKind.ALSO:
        said = f"`accounts: {{known: {{{name}: also user {principal.name}}}}}`"
        hint = f"say whose it is: {said} in {platform.source.file}"
        yield error("wrong-value", source, f"{platform.name} knows no second account {name!r}", hint)
    elif account.login != principal.name:
        message = f"{name} is an account of {account.login}, not of {principal.name}"
        yield error("wrong-value", source, message, "correct one of the two")
    habits = platform.habits
    apart = habits.decides is Decides.ANY_ALLOW and habits.roles_held is RolesHeld.TOGETHER
    if not apart or habits.sign_in or habits.on_the_way or habits.open_role or platform.ceilings:
        message = f"on {platform.name} one of somebody's accounts would decide otherwise than the person"
        hint = "leave that account alone (`leave alone`), or let the person's own have it"
        yield error("wrong-value", source, message, hint)
