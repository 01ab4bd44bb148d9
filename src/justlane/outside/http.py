"""The one way in which HTTP is spoken: no proxy, no redirect, no compression; every answer within limits of time in all
and of bytes; every failure one of our errors."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from typing import Any, NamedTuple, TypeVar
from urllib.parse import urlsplit

import msgspec

from justlane.model import interruption
from justlane.model.errors import JustLaneError, NonsenseError, OutsideError, TimedOutError, UnreachableError
from justlane.model.names import counted, one_line
from justlane.outside import certificates
from justlane.outside.certificates import Trusted
from justlane.outside.lean_httpx import httpcore, httpx
from justlane.outside.limits import Limits, Watch
from justlane.outside.secrets import Destination

T = TypeVar("T")

_MANNERS = {"Accept-Encoding": "identity", "User-Agent": "justlane"}
_ADVICE = "see whether the url is the right one"
_START = "see whether it runs, or correct the url"

_OUTSIDE = (httpx.HTTPError, httpx.InvalidURL, httpx.StreamError, OSError, UnicodeError)
"""What a server, the way to it or its address can be blamed for; anything else is a mistake of ours, and stays one.

UnicodeError: a host name that cannot be written in the letters of the name system. OSError: TLS is one, too.
"""


class Answer(NamedTuple):
    """What came back."""

    status: int
    headers: httpx.Headers
    content: bytes
    path: str


def destination_of(url: str, authority: str) -> Destination:
    """Where a request to an address goes."""
    parts = urlsplit(url)
    encrypted = parts.scheme.endswith("s")
    return Destination((parts.hostname or "").lower(), parts.port or (443 if encrypted else 80), authority, encrypted)


class Service:
    """One service, by its base address; to be closed."""

    def __init__(
        self,
        who: str,
        url: str,
        trusted: Trusted | None,
        limits: Limits,
        *,
        advice: str = _START,
        transport: httpx.BaseTransport | None = None,
    ) -> None:
        self.who, self.url = who, url.rstrip("/")
        self._advice = advice
        self._watch = Watch(limits, who)
        self._limits = limits
        made = transport or _Watched(self._watch, trusted)
        self._client = httpx.Client(
            transport=made, timeout=limits.seconds, follow_redirects=False, trust_env=False, headers=_MANNERS
        )

    def close(self) -> None:
        """Let go of the connection."""
        self._client.close()

    def ask(
        self,
        method: str,
        path: str,
        *,
        headers: Mapping[str, str],
        body: object = None,
        params: Mapping[str, str] | None = None,
    ) -> Answer:
        """One answer, whole. OutsideError if there is none, or it goes beyond the limits. NonsenseError if it is no
        HTTP."""
        self._watch.begin()
        try:
            with self._client.stream(
                method, self.url + path, headers=dict(headers), json=body, params=params
            ) as response:
                if response.headers.get("content-encoding", "identity").lower() != "identity":
                    message = f"{self.who}: its answer is compressed, although we did not ask for that"
                    raise NonsenseError(message, "let it answer as it is asked to")
                content = self._whole(response.iter_raw())
                return Answer(response.status_code, response.headers, content, response.request.url.path)
        except JustLaneError:
            raise
        except _OUTSIDE as error:
            interruption.check()
            raise explain_failure(error, self.who, self.url, self._limits.seconds, self._advice) from error

    def _whole(self, pieces: Iterable[bytes]) -> bytes:
        found = []
        for piece in pieces:
            self._watch.took(len(piece))
            self._watch.left()
            found.append(piece)
        return b"".join(found)

    def decoded(self, answer: Answer, kind: type[T]) -> T:
        """What an answer says. NonsenseError if that is not what was asked for."""
        return decode(answer.content, kind, f"{self.who} answered nonsense to {answer.path}")


def decode(content: bytes | msgspec.Raw, kind: type[T], complaint: str) -> T:
    """JSON of a certain shape. NonsenseError, with a complaint, if it is another."""
    try:
        return msgspec.json.decode(content, type=kind)
    except (msgspec.DecodeError, UnicodeDecodeError) as error:
        raise NonsenseError(f"{complaint}: {one_line(str(error))}", _ADVICE) from error
    except RecursionError as error:
        raise NonsenseError(f"{complaint}: it is nested too deeply", _ADVICE) from error


def explain_failure(error: Exception, who: str, url: str, seconds: float, advice: str = _START) -> OutsideError:
    """Our error for whatever the library raised, with what to do."""
    unsafe = certificates.tls_failure(error)
    if unsafe is not None:
        return certificates.failure(unsafe, f"{who} at {url}")
    if isinstance(error, httpx.TimeoutException | TimeoutError):
        message = f"{who} does not answer in time at {url}: nothing within {counted(round(seconds), 'second')}"
        return TimedOutError(message, "see whether it hangs, then try again")
    if isinstance(error, httpx.RemoteProtocolError | httpx.DecodingError | httpx.TooManyRedirects):
        said = one_line(str(error))
        return NonsenseError(f"{who} at {url} answers in a way that is not HTTP as agreed: {said}", _ADVICE)
    if isinstance(error, httpx.InvalidURL | httpx.UnsupportedProtocol | httpx.LocalProtocolError | UnicodeError):
        return UnreachableError(f"{url} is not an address that {who} can be reached at", _ADVICE)
    said = one_line(str(error)) or type(error).__name__
    return UnreachableError(f"{who} cannot be reached at {url}: {said}", advice)


class _Watched(httpx.HTTPTransport):
    """A transport that waits only as long as the watch says, however slowly the bytes come.

    The library's own time limits count anew with every byte; its connection pool takes a backend of ours instead.
    """

    def __init__(self, watch: Watch, trusted: Trusted | None) -> None:
        super().__init__(trust_env=False, verify=trusted.context if trusted else False)
        self._pool.close()
        self._pool = httpcore.ConnectionPool(
            ssl_context=trusted.context if trusted else None, network_backend=_Backend(watch)
        )


class _Backend(httpcore.NetworkBackend):
    def __init__(self, watch: Watch) -> None:
        self._watch = watch
        self._inner = httpcore.SyncBackend()

    def connect_tcp(
        self,
        host: str,
        port: int,
        timeout: float | None = None,
        local_address: str | None = None,
        socket_options: Any = None,
    ) -> httpcore.NetworkStream:
        stream = self._inner.connect_tcp(host, port, self._watch.left(), local_address, socket_options)
        return _Stream(stream, self._watch)


class _Stream(httpcore.NetworkStream):
    def __init__(self, inner: httpcore.NetworkStream, watch: Watch) -> None:
        self._inner, self._watch = inner, watch

    def read(self, max_bytes: int, timeout: float | None = None) -> bytes:
        return self._watch.read(lambda seconds: self._inner.read(max_bytes, seconds), httpcore.ReadTimeout)

    def write(self, buffer: bytes, timeout: float | None = None) -> None:
        self._inner.write(buffer, self._watch.left())

    def close(self) -> None:
        self._inner.close()

    def start_tls(
        self, ssl_context: Any, server_hostname: str | None = None, timeout: float | None = None
    ) -> httpcore.NetworkStream:
        return _Stream(self._inner.start_tls(ssl_context, server_hostname, self._watch.left()), self._watch)

    def get_extra_info(self, info: str) -> Any:
        return self._inner.get_extra_info(info)
