"""Asking the person whether a secret may go somewhere, the first time that it is to."""

from __future__ import annotations

from justlane.cli.common.terminal import answer_to, may_ask, say
from justlane.files.allowed.permissions import Use
from justlane.outside.secrets import Destination

_READABLE = "readable"
"""What has to be typed before a secret is sent without encryption."""


def ask_person(use: Use, to: Destination) -> bool:
    """Ask whether a secret may go somewhere, from now on; no, where nobody can be asked."""
    if not may_ask():
        return False
    by = "an authority of its own" if use.authority else "an authority that this machine trusts"
    safe = f"encrypted, with a certificate by {by}" if to.encrypted else "on this machine"
    say("the estate wants to send a secret:")
    say(f"  secret  {use.secret}")
    say(f"  to      {to.host}{f', port {to.port}' if to.port else ''}")
    say(f"  how     {'NOT ENCRYPTED: everybody on the way can read it' if use.readable else safe}")
    if use.authority:
        say(f"  signed  by the certificates with SHA-256 {use.authority}")
    if use.readable:
        return answer_to(f"if it shall be sent all the same, type {_READABLE}:") == _READABLE
    return answer_to("may it go there, from now on? [y/N]").lower() in ("y", "yes")
