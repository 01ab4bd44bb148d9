"""TLS towards directories: what is trusted, and what is said when a certificate cannot be."""

from __future__ import annotations

import ssl
from datetime import UTC, datetime
from pathlib import Path

from justlane.model.errors import CertificateError, OutsideError, StorageError, UnreachableError

_TRUST = "have it signed by an authority that this machine trusts, or name its certificate: `trust: FILE`"
_EXPIRED, _NOT_YET, _OTHER_HOST, _OTHER_ADDRESS = 10, 9, 62, 64


def context(folder: Path, trust: str) -> ssl.SSLContext:
    """What a connection needs to be safe: certificate and host are verified. StorageError if `trust` cannot be read."""
    if not trust:
        return ssl.create_default_context()
    try:
        return ssl.create_default_context(cafile=str(folder / trust))
    except (OSError, ssl.SSLError) as error:
        reason = "it holds no certificate" if isinstance(error, ssl.SSLError) else error.strerror
        message = f"the certificates to trust in {trust} cannot be read: {reason}"
        raise StorageError(
            message, "name a PEM file with the certificate of the authority, or of the server"
        ) from error


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
