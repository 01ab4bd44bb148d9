"""Every error that stops a command.

JustLaneError                      exit code
├── UsageError                     2   a name or an option that does not fit the estate
├── EstateError                    2   the estate's files are wrong; carries every finding
├── RefusedError                   2   we will not do it: too much to remove, no consent
└── OutsideError                   3   something that is not ours failed
    ├── UnreachableError               nobody answers at the platform's address
    ├── TimedOutError                  somebody answers, but not in time
    ├── TokenRefusedError              the platform does not accept our token
    ├── PlatformChangedError           it changed while we were changing it
    ├── PlatformRefusedError           it answered with a problem (RFC 9457)
    │   └── ChangeRefusedError             it did not make a change, and nothing of it came about
    ├── ForeignMistakeError            a connector of another package failed in a way that it does not tell
    ├── NonsenseError                  it answered something that we cannot understand
    ├── SecretError                    a secret is missing, or others can read it
    ├── CertificateError               the server's certificate cannot be trusted
    ├── SignInError                    a directory does not let the reading account in
    ├── NoRightError                   the reading account is in, but may not look
    ├── IncompleteError                a reading stopped half-way, or something is missing in it
    ├── StorageError                   a file of ours cannot be written or read
    └── InterruptedRunError            stopped by hand before the end
"""

from __future__ import annotations

from collections.abc import Sequence

from justlane.model.findings import Finding


class JustLaneError(Exception):
    """Base of all errors: a message that says what is wrong, and a hint that says what to do."""

    exit_code = 2

    def __init__(self, message: str, hint: str = "") -> None:
        super().__init__(message)
        self.message = message
        self.hint = hint


class UsageError(JustLaneError):
    """A name or an option does not fit the estate."""


class EstateError(JustLaneError):
    """The estate's files are wrong."""

    def __init__(self, findings: Sequence[Finding]) -> None:
        count = len(findings)
        super().__init__(f"the estate has {count} error{'s' * (count != 1)}")
        self.findings = tuple(findings)


class RefusedError(JustLaneError):
    """A change that is not made unless the user insists."""


class OutsideError(JustLaneError):
    """Something outside the estate failed."""

    exit_code = 3


class UnreachableError(OutsideError):
    """Nobody answers at the address."""


class TimedOutError(OutsideError):
    """No answer in time."""


class TokenRefusedError(OutsideError):
    """The platform does not accept the token."""


class PlatformChangedError(OutsideError):
    """The platform changed between reading and writing."""


class PlatformRefusedError(OutsideError):
    """The platform answered with a problem."""


class ChangeRefusedError(PlatformRefusedError):
    """The platform did not make a change, and nothing of it came about."""


class ForeignMistakeError(OutsideError):
    """A connector of another package failed in a way that it does not tell."""


class NonsenseError(OutsideError):
    """The answer cannot be understood."""


class SecretError(OutsideError):
    """A secret is missing or not kept secret."""


class CertificateError(OutsideError):
    """The server's certificate cannot be trusted."""


class SignInError(OutsideError):
    """A directory does not let the reading account in."""


class NoRightError(OutsideError):
    """The reading account is in, but may not look."""


class IncompleteError(OutsideError):
    """A reading stopped half-way, or something is missing in it."""


class StorageError(OutsideError):
    """A file of ours cannot be written or read."""


class InterruptedRunError(OutsideError):
    """Stopped by hand before the end."""
