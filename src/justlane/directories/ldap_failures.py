"""What an LDAP server's result codes (RFC 4511, appendix A) and its password policy mean for the reading account."""

from __future__ import annotations

import re

from justlane.model.errors import (
    IncompleteError,
    NonsenseError,
    NoRightError,
    OutsideError,
    SignInError,
    UnreachableError,
)

SUCCESS, UNAVAILABLE_EXTENSION = 0, 12
PASSWORD_POLICY = "1.3.6.1.4.1.42.2.27.8.5.1"
"""The control by which a server says why it refuses (draft-behera-ldap-password-policy)."""

_Kind = type[OutsideError]
_WRONG = (SignInError, "the password or the account is wrong", "check `sign in as` and the secret it goes with")
_EXPIRED = (SignInError, "its password has expired", "have a new one set, then store it where `password from` says")
_RESET = (
    SignInError,
    "it must change its password at the first sign-in",
    "sign in once by hand and change it, then store the new one where `password from` says",
)
_LOCKED = (SignInError, "the account is locked", "have it unlocked; something may be signing in with an old password")
_DISABLED = (SignInError, "the account is disabled or may not sign in now", "have it enabled")

_POLICY: dict[int, tuple[_Kind, str, str]] = {0: _EXPIRED, 1: _LOCKED, 2: _RESET}
_SUB_CODES = {"532": _EXPIRED, "701": _EXPIRED, "773": _RESET, "775": _LOCKED, "533": _DISABLED, "530": _DISABLED}

_LIMIT_HINT = "ask for higher limits for the reading account, or make `page size` smaller"
_RESULTS: dict[int, tuple[_Kind, str, str]] = {
    3: (IncompleteError, "it stopped half-way: the server's time limit was hit", _LIMIT_HINT),
    4: (IncompleteError, "it stopped half-way: the server's size limit was hit", _LIMIT_HINT),
    7: (SignInError, "the server does not know this way to sign in", "try another `sign in by`"),
    8: (SignInError, "the server wants a stronger way to sign in", "use ldaps:// or a certificate"),
    10: (IncompleteError, "it refers to another server", "read that server too, as a directory of its own"),
    11: (IncompleteError, "the server refuses so large a page, or so long a search", _LIMIT_HINT),
    13: (SignInError, "the server wants the connection encrypted", "leave `encryption` out, or use ldaps://"),
    32: (
        NoRightError,
        "there is no such entry, or the account may not see it",
        "check `under`, and the account's rights",
    ),
    34: (NoRightError, "what `under` says is no distinguished name", "write it like ou=people,dc=saltmarsh,dc=example"),
    48: (SignInError, "the server does not let this account in this way", "try another `sign in by`"),
    49: _WRONG,
    50: (NoRightError, "the account has no right to search there", "have it given the right to read people and groups"),
    51: (UnreachableError, "the server is busy", "try again later"),
    52: (UnreachableError, "the server is not available", "try again later"),
    53: (SignInError, "the server is not willing to do that", "see what it says; the account may be disabled"),
}


def bind_failure(code: int, said: str, policy: int | None, server: str) -> OutsideError | None:
    """Why the account did not get in; None if it did, and may go on."""
    if policy in _POLICY and (code != SUCCESS or policy == 2):
        return _made(_POLICY[policy], server, "")
    if code == SUCCESS:
        return None
    found = re.search(r"\bdata (\w+)", said) if code == 49 else None
    if found and found.group(1) in _SUB_CODES:
        return _made(_SUB_CODES[found.group(1)], server, "")
    return failure(code, said, server)


def failure(code: int, said: str, server: str) -> OutsideError:
    """What a result code other than success means."""
    if code in _RESULTS:
        return _made(_RESULTS[code], server, said)
    remark = f": {said}" if said else ""
    return NonsenseError(f"{server}: it answered with result {code}{remark}", "see RFC 4511, appendix A, and its logs")


def _made(kind: tuple[_Kind, str, str], server: str, said: str) -> OutsideError:
    make, message, hint = kind
    remark = f" (it says: {said})" if said else ""
    return make(f"{server}: {message}{remark}", hint)


def policy_error(value: bytes) -> int | None:
    """The error in a password-policy control: its BER is a sequence that ends in `81 01 NN`. None if there is none."""
    if len(value) >= 5 and value[0] == 0x30 and value[-3:-1] == b"\x81\x01":
        return value[-1]
    return None
