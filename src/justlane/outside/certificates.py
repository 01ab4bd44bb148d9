"""TLS towards services: what is trusted, and what is said when a certificate cannot be."""

from __future__ import annotations

import hashlib
import ssl
from datetime import UTC, datetime
from pathlib import Path
from typing import NamedTuple

from justlane.files.reading import named_files
from justlane.model.errors import CertificateError, OutsideError, StorageError, UnreachableError

_TRUST = "have it signed by an authority that this machine trusts, or name its certificate: `trust: FILE`"
_EXPIRED, _NOT_YET, _OTHER_HOST, _OTHER_ADDRESS = 10, 9, 62, 64


class Trusted(NamedTuple):
    """What a safe connection takes, and the digest of the authority that is trusted instead of the system's."""

    context: ssl.SSLContext
    authority: str
    """SHA-256; empty for the system's authorities."""


def trusted(folder: Path, trust: str) -> Trusted:
    """What a connection needs to be safe: certificate and host are verified. StorageError if `trust` cannot be read."""
    if not trust:
        return Trusted(ssl.create_default_context(), "")
    try:
        content = named_files.read(folder, trust)
        context = ssl.create_default_context(cadata=content.decode("ascii"))
        return Trusted(context, digest_of_authority(content))
    except (OSError, ValueError) as error:
        known = isinstance(error, OSError) and not isinstance(error, ssl.SSLError)
        reason = getattr(error, "strerror", "") if known else "it holds no certificate"
        message = f"the certificates to trust in {trust} cannot be read: {reason}"
        raise StorageError(
            message, "name a PEM file with the certificate of the authority, or of the server"
        ) from error


def digest_of_authority(content: bytes) -> str:
    """By which the certificates in a file are known again."""
    return hashlib.sha256(content).hexdigest()


def failure(error: BaseException, server: str) -> OutsideError:
    """What went wrong in making a connection safe, in our words."""
    if not isinstance(error, ssl.SSLCertVerificationError):
        reason = getattr(error, "reason", None) or type(error).__name__
        hint = "check the port: perhaps it does not speak TLS, or only an older one"
        return UnreachableError(f"{server}: no safe connection could be made ({reason})", hint)
    now = datetime.now(UTC).strftime("%Y-%m-%d %H:%M UTC")
    if error.verify_code == _EXPIRED:
        hint = f"have it renewed; if it was, this machine's clock is off: it shows {now}"
        return CertificateError(f"{server}: its certificate has expired", hint)
    if error.verify_code == _NOT_YET:
        hint = f"set the clock of this machine, which shows {now}, or the one that the certificate was made on"
        return CertificateError(f"{server}: its certificate is not valid yet: a clock is off", hint)
    if error.verify_code in (_OTHER_HOST, _OTHER_ADDRESS):
        hint = "write the host in the url as it stands in the certificate, or have one made for this host"
        return CertificateError(f"{server}: its certificate is for another host", hint)
    return CertificateError(f"{server}: its certificate is unknown here ({error.verify_message})", _TRUST)


def tls_failure(error: BaseException) -> ssl.SSLError | None:
    """The failure of TLS behind an error, if there is one."""
    cause: BaseException | None = error
    while cause is not None:
        if isinstance(cause, ssl.SSLError):
            return cause
        cause = cause.__cause__ or cause.__context__
    return None
