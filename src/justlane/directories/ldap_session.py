"""A signed-in connection to an LDAP server. Whatever fails is one of our errors, with advice.

The library under it says little when a page is cut short, and verifies no certificate by itself: so every result code
is looked at here, and the TLS context is ours.
"""

from __future__ import annotations

import re
import ssl
from collections.abc import Iterator
from contextlib import contextmanager, suppress
from pathlib import Path
from typing import Any, NamedTuple
from urllib.parse import unquote, urlsplit

import ldap3
from ldap3.core import exceptions as wrong

from justlane.directories.entries import key_of
from justlane.directories.ldap_failures import (
    PASSWORD_POLICY,
    SUCCESS,
    UNAVAILABLE_EXTENSION,
    bind_failure,
    failure,
    policy_error,
)
from justlane.files.reading import named_files
from justlane.files.reading.directory_shapes import LdapShape
from justlane.model import interruption
from justlane.model.errors import (
    IncompleteError,
    JustLaneError,
    NonsenseError,
    NoRightError,
    OutsideError,
    SecretError,
    TimedOutError,
    UnreachableError,
    UsageError,
)
from justlane.model.estate import SecretPlace
from justlane.model.names import counted, one_line
from justlane.outside import certificates
from justlane.outside.limits import Limits, Watch
from justlane.outside.secrets import Destination, Permit, released, require_closed

PAGED = "1.2.840.113556.1.4.319"
_MOST_EMPTY_PAGES = 100
_NO_PAGES = "pagedResults control not allowed"
"""What a server says that lets an account read no pages; a search without pages may still do."""
_ENTRY = 4
"""The number of a search result entry among the protocol's operations (RFC 4511, section 4.5.2)."""
_PORTION = re.compile(r"(\w[\w-]*);range=(\d+)-(\d+|\*)")


class FoundEntries(NamedTuple):
    """One entry, as it arrived."""

    dn: str
    attributes: dict[str, list[bytes]]


class ResultPage(NamedTuple):
    """One page of a search."""

    entries: list[FoundEntries]
    total: int
    """How many entries the server expects in all; 0 if it does not say."""


class LdapSession:
    """Signs in at once; to be closed."""

    def __init__(self, shape: LdapShape, folder: Path, permit: Permit) -> None:
        self._shape = shape
        self.server = shape.url.rstrip("/")
        self._begun = False
        """Whether a search has brought anything yet."""
        self._pages = True
        """Whether the server lets the account read page by page."""
        self._own: list[str] | None = None
        self.not_followed: dict[str, None] = {}
        """Addresses of parts that lie elsewhere, or are another part of this server."""
        without = shape.url.startswith("ldapi:") or (shape.url.startswith("ldap:") and shape.encryption == "none")
        self._watch = Watch(Limits(shape.patience, in_all=shape.patience * PATIENCES_IN_ALL), self.server)
        self._tls = None if without else _Tls(shape, folder)
        account = _account(shape, folder, self._tls, permit)
        with self._told():
            where = ldap3.Server(
                shape.url, get_info=ldap3.NONE, connect_timeout=shape.patience, tls=self._tls, allowed_referral_hosts=[]
            )
            self._connection = ldap3.Connection(where, **account, **_MANNERS, receive_timeout=shape.patience)
            _decode_once(self._connection.strategy)
            try:
                self._sign_in()
            except BaseException:
                self.close()
                raise

    def _sign_in(self) -> None:
        connection = self._connection
        self._watch.begin()
        connection.open(read_server_info=False)
        connection.socket = _WatchedSocket(connection.socket, self._watch)
        if (
            self._shape.url.startswith("ldap://")
            and self._shape.encryption == "tls"
            and not connection.start_tls(False)
        ):
            hint = "use ldaps://; where the network is safe, `encryption: none` does without"
            raise UnreachableError(f"{self.server}: it does not start TLS ({_said(connection)})", hint)
        if not isinstance(connection.socket, _WatchedSocket):
            connection.socket = _WatchedSocket(connection.socket, self._watch)
        connection.bind(read_server_info=False, controls=[(PASSWORD_POLICY, False, None)])
        control = _control(connection, PASSWORD_POLICY)
        policy = policy_error(control) if isinstance(control, bytes) else None
        trouble = bind_failure(_code(connection), _said(connection), policy, self.server)
        if trouble:
            raise trouble

    def close(self) -> None:
        """Say good-bye; whoever has gone already is not missed."""
        with suppress(wrong.LDAPException, OSError):
            self._connection.unbind()
        if self._connection.socket is not None:
            self._connection.socket.close()

    def contexts(self) -> list[str]:
        """The entries below which the server holds everything (RFC 4512, section 5.1). NoRightError if the account may
        not see them."""
        with self._told():
            found = self._naming_contexts()
        if not found:
            message = f"{self.server}: it does not say what it holds"
            raise NoRightError(message, "say it: `under`, for `people` and for `groups`")
        return found

    def _naming_contexts(self) -> list[str]:
        found = self._one("", "namingContexts").get("namingcontexts", [])
        return [name.decode("utf-8", "replace") for name in found]

    def pages(self, under: str, where: str, attributes: list[str]) -> Iterator[ResultPage]:
        """All entries below one that fulfil a filter, page by page. An error means that some are missing.
        IncompleteError if some are missing."""
        cookie: bytes = b""
        paged, empty = self._pages, 0
        while True:
            entries, more, total = self._page(under, where, attributes, cookie, paged)
            if entries is None:
                paged = self._pages = False
                continue
            self._begun = self._begun or bool(entries)
            yield ResultPage(entries, total)
            empty = 0 if entries else empty + 1
            if not more:
                return
            if empty > _MOST_EMPTY_PAGES:
                raise IncompleteError(f"{self.server}: it promises more pages, but they stay empty", "see its logs")
            cookie = more

    def _page(
        self, under: str, where: str, attributes: list[str], cookie: bytes, paged: bool
    ) -> tuple[list[FoundEntries] | None, bytes, int]:
        """Entries (None if the server has no pages at all), the cookie for more, and the expected total."""
        with self._told():
            connection = self._connection
            self._watch.begin()
            size = self._shape.page_size if paged else None
            connection.search(
                under, where, ldap3.SUBTREE, ldap3.DEREF_NEVER, attributes, paged_size=size, paged_criticality=True,
                paged_cookie=cookie, time_limit=self._shape.patience,
            )  # fmt: skip
            code = _code(connection)
            without = code == UNAVAILABLE_EXTENSION or _NO_PAGES in _said(connection)
            if without and paged and not self._begun:
                return None, b"", 0
            if code != SUCCESS:
                raise failure(code, _said(connection), self.server)
            control = _control(connection, PAGED)  # before anything else is asked
            items = [item for item in list(connection.response or ()) if self._is_entry(item)]
            entries = [self._entry(item) for item in items]
            if not paged and control is None:
                return entries, b"", 0
            if not paged or not isinstance(control, dict):
                hint = "try again; if it stays so, set `page size` to what the server allows"
                raise IncompleteError(f"{self.server}: it does not say whether this was the last page", hint)
            return entries, control.get("cookie") or b"", int(control.get("size") or 0)

    def _is_entry(self, item: dict[str, Any]) -> bool:
        if item.get("type") == "searchResRef":
            self._elsewhere([str(uri) for uri in item.get("uri") or ()])
        return item.get("type") == "searchResEntry"

    def _elsewhere(self, addresses: list[str]) -> None:
        """Nothing is followed. A reference to another part of this server is no gap: what was asked for lies here, and
        parts of its own are asked by themselves. IncompleteError for any other."""
        if self._own is None:
            self._own = [key_of(name) for name in self._naming_contexts()]
        where = [key_of(unquote(urlsplit(one).path.lstrip("/"))) for one in addresses]
        told = one_line(", ".join(addresses))
        if not where or not all(any(f",{at}".endswith(f",{own}") for own in self._apart()) for at in where):
            hint = "read that server too, as a directory of its own, or start below it: `under`; a domain controller's "
            hint += "global catalogue (port 3268, with TLS 3269) holds the people of all domains"
            raise IncompleteError(f"{self.server}: a part of the directory lies on another server: {told}", hint)
        self.not_followed[told] = None

    def _apart(self) -> list[str]:
        """Parts of this server that lie inside another part of it."""
        own = self._own or []
        return [name for name in own if any(name != other and name.endswith(f",{other}") for other in own)]

    def _entry(self, item: dict[str, Any]) -> FoundEntries:
        attributes = {str(name).lower(): values for name, values in item["raw_attributes"].items()}
        for name in [name for name in attributes if _PORTION.fullmatch(name)]:
            attributes[name.partition(";")[0]] = self._whole(item["dn"], name, attributes.pop(name))
        return FoundEntries(item["dn"], {name.partition(";")[0]: values for name, values in attributes.items()})

    def _whole(self, dn: str, name: str, values: list[bytes]) -> list[bytes]:
        """All values of an attribute that comes in portions, which some servers do with large groups."""
        first = 0
        while portion := _PORTION.fullmatch(name):
            attribute, start, last = portion.group(1, 2, 3)
            if int(start) != first or (last != "*" and len(values) != int(last) + 1):
                break
            if last == "*":
                return values
            first = len(values)
            found = self._one(dn, f"{attribute};range={first}-*")
            name = next((key for key in found if key.startswith(f"{attribute};")), "")
            values = values + found.get(name, [])
        hint = "try again; or read who is in what from the people: `members: memberOf`"
        raise IncompleteError(
            f"{self.server}: a portion of {one_line(dn)} is missing, after {len(values):,} values", hint
        )

    def _one(self, dn: str, attribute: str) -> dict[str, list[bytes]]:
        """What one entry holds of an attribute, by names in lower case."""
        connection = self._connection
        self._watch.begin()
        connection.search(dn, "(objectClass=*)", ldap3.BASE, attributes=[attribute])
        if _code(connection) != SUCCESS:
            raise failure(_code(connection), _said(connection), self.server)
        entries = [item["raw_attributes"] for item in list(connection.response or ()) if self._is_entry(item)]
        return {str(name).lower(): values for entry in entries for name, values in entry.items()}

    @contextmanager
    def _told(self) -> Iterator[None]:
        """Every foreign exception becomes one of ours."""
        try:
            yield
        except JustLaneError:
            raise
        except (wrong.LDAPInvalidFilterError, wrong.LDAPInvalidDnError, wrong.LDAPInvalidPortError) as error:
            port = isinstance(error, wrong.LDAPInvalidPortError)
            what = "its port" if port else "`where` or `under`"
            raise UsageError(f"{self.server}: {what} cannot be understood: {error}", "correct it") from error
        except Exception as error:
            interruption.check()
            # Damaged answers make the library fail in ways that it does not name.
            raise self._explained(error) from error

    def _explained(self, error: Exception) -> OutsideError:
        if self._tls is not None and self._tls.trouble is not None:
            return certificates.failure(self._tls.trouble, self.server)
        text = str(error)
        if "timed out" in text:
            message = f"{self.server}: no answer within {counted(self._shape.patience, 'second')}"
            return TimedOutError(message, "try again, or wait longer: `wait at most`")
        gone = (
            wrong.LDAPSessionTerminatedByServerError,
            wrong.LDAPSocketReceiveError,
            wrong.LDAPSocketSendError,
            OSError,
        )
        if self._begun and isinstance(error, gone):
            return IncompleteError(f"{self.server}: it went away in the middle of the reading", "try again")
        if isinstance(error, (*gone, wrong.LDAPSocketOpenError)):
            errno = re.search(r"\[Errno -?\d+\] ([^\n\])]+)", text)
            reason = errno.group(1) if errno else (text.splitlines() or [type(error).__name__])[0]
            return UnreachableError(
                f"{self.server}: nobody answers ({reason})", "check the address, and whether it runs"
            )
        message = f"{self.server}: its answer cannot be understood ({type(error).__name__})"
        return NonsenseError(message, "check the address and the port: it may not speak LDAP")


_MANNERS: dict[str, Any] = {
    "client_strategy": ldap3.SYNC,
    "auto_bind": ldap3.AUTO_BIND_NONE,
    "raise_exceptions": False,
    "check_names": False,
    "auto_referrals": False,
    "auto_range": False,
    "return_empty_attributes": False,
}


PATIENCES_IN_ALL = 60
"""A whole reading may take so many times what one answer may."""


def _account(shape: LdapShape, folder: Path, tls: _Tls | None, permit: Permit) -> dict[str, Any]:
    if shape.sign_in_by in ("certificate", "socket"):
        return {"authentication": ldap3.SASL, "sasl_mechanism": ldap3.EXTERNAL, "sasl_credentials": ()}
    if shape.sign_in_by == "nobody":
        return {"authentication": ldap3.ANONYMOUS}
    parts = urlsplit(shape.url)
    here = unquote(shape.url.removeprefix("ldapi://"))
    socket_path = here if here.startswith("/") else f"/{here}"
    host = socket_path if parts.scheme == "ldapi" else (parts.hostname or "").lower()
    port = 0 if parts.scheme == "ldapi" else parts.port or (636 if parts.scheme == "ldaps" else 389)
    to = Destination(host, port, tls.authority if tls else "", tls is not None)
    password = released(SecretPlace.of(shape.password_from or ""), folder, to, permit, "password")
    return {"authentication": ldap3.SIMPLE, "user": shape.sign_in_as, "password": password}


class _Tls(ldap3.Tls):  # type: ignore[misc]  # the library has no types
    """TLS by our own context, which verifies the certificate and the host."""

    def __init__(self, shape: LdapShape, folder: Path) -> None:
        super().__init__(validate=ssl.CERT_REQUIRED)
        self.trouble: Exception | None = None
        self._patience = shape.patience
        self._context, self.authority = certificates.trusted(folder, shape.trust)
        if shape.sign_in_by == "certificate":
            _show_certificate(self._context, shape, folder)

    def wrap_socket(self, connection: Any, do_handshake: bool = False) -> None:
        """Called by the library when the connection shall become safe."""
        try:
            plain = getattr(connection.socket, "plain", connection.socket)
            plain.settimeout(self._patience)
            connection.socket = self._context.wrap_socket(plain, server_hostname=connection.server.host)
        except (ssl.SSLError, OSError) as error:
            self.trouble = error
            raise


class _WatchedSocket:
    """A socket that waits for an answer only as long as the watch says, however slowly its bytes come."""

    def __init__(self, plain: Any, watch: Watch) -> None:
        self.plain, self._watch = plain, watch
        self._ended = False

    def recv(self, size: int) -> bytes:
        """Some bytes. ConnectionResetError if the server goes away."""
        if self._ended:  # the library would ask for ever
            raise ConnectionResetError("the connection was closed in the middle of an answer")
        found = self._watch.read(lambda seconds: self._received(size, seconds), TimeoutError)
        self._ended = not found
        self._watch.took(len(found))
        return found

    def _received(self, size: int, seconds: float) -> bytes:
        self.plain.settimeout(seconds)
        return bytes(self.plain.recv(size))

    def __getattr__(self, name: str) -> Any:
        """Everything else is the socket's own."""
        return getattr(self.plain, name)


def _show_certificate(context: ssl.SSLContext, shape: LdapShape, folder: Path) -> None:
    try:
        with named_files.opened(folder, shape.certificate_key) as handle:
            require_closed(handle, shape.certificate_key)
        paths = [named_files.path_to(folder, name) for name in (shape.certificate, shape.certificate_key)]
        context.load_cert_chain(*paths)
    except (OSError, ssl.SSLError) as error:
        reason = "they do not belong together" if isinstance(error, ssl.SSLError) else error.strerror
        message = f"{shape.certificate} and {shape.certificate_key} cannot be read: {reason}"
        raise SecretError(message, "name PEM files with the certificate and its key") from error


def _decode_once(strategy: Any) -> None:
    """Take the values of entries as the bytes they are. The library would decode each one a second time, into text that
    nobody reads here, which takes longer than all the rest of a reading."""
    otherwise = strategy.decode_response_fast

    def decoded(message: dict[str, Any]) -> dict[str, Any]:
        if message["protocolOp"] != _ENTRY or message["controls"]:
            return dict(otherwise(message))
        (*_, name), (*_, attributes) = message["payload"]
        raw = {_text(kind): [value for *_, value in values] for *_, ((*_, kind), (*_, values)) in attributes}
        return {"type": "searchResEntry", "dn": _text(name), "raw_attributes": raw, "attributes": {}}

    strategy.decode_response_fast = decoded


def _text(octets: bytes) -> str:
    return octets.decode("utf-8", "replace")


def _code(connection: Any) -> int:
    return int((connection.result or {}).get("result", -1))


def _said(connection: Any) -> str:
    """What the server says of a result, safe to show."""
    return one_line(str((connection.result or {}).get("message") or ""))


def _control(connection: Any, oid: str) -> Any:
    controls = (connection.result or {}).get("controls") or {}
    return controls.get(oid, {}).get("value")
