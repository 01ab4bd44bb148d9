"""Places for connections: whoever has shown the token keeps theirs, and whoever has not makes room for the next.

A head that does not come in time closes its connection. Where too many wait without having shown a token, the one that
has waited longest goes first: half a request, a thousand times over, keeps nobody out.
"""

from __future__ import annotations

import asyncio
import resource
from collections import OrderedDict
from contextlib import suppress
from typing import Any

from uvicorn.protocols.http.auto import AutoHTTPProtocol

from justlane.serving.application import shows

HEAD_SECONDS = 10
"""So long a caller may take to send the head of a request."""
_MOST_FILES = 4096
_OWN_FILES = 128
"""Open files that are none of the callers'."""
_Base: Any = AutoHTTPProtocol


class ConnectionPlaces:
    """The connections of one process."""

    def __init__(self, token: str) -> None:
        soft, hard = resource.getrlimit(resource.RLIMIT_NOFILE)
        wanted = _MOST_FILES if hard == resource.RLIM_INFINITY else min(_MOST_FILES, hard)
        with suppress(OSError, ValueError):
            resource.setrlimit(resource.RLIMIT_NOFILE, (max(soft, wanted), hard))
        files = resource.getrlimit(resource.RLIMIT_NOFILE)[0]
        self.most = max((min(files, _MOST_FILES) - _OWN_FILES) // 4, 8)
        """So many may wait without a token, so many have shown it, so many are accepted at once before anybody is told,
        and so many that were sent away are not closed yet: together the open files that there are."""
        self._token = token.encode()
        self._waiting: OrderedDict[Any, None] = OrderedDict()
        self._known: OrderedDict[Any, None] = OrderedDict()

    def arrived(self, connection: Any) -> None:
        """Somebody of whom nothing is known."""
        self._waiting[connection] = None
        _make_room(self._waiting, self.most)

    def asked(self, connection: Any, headers: list[tuple[bytes, bytes]]) -> None:
        """Somebody has sent a head."""
        if connection in self._waiting and (
            not self._token or shows(dict(headers).get(b"authorization", b""), self._token)
        ):
            del self._waiting[connection]
            self._known[connection] = None
            _make_room(self._known, self.most)

    def left(self, connection: Any) -> None:
        """Somebody has gone."""
        self._waiting.pop(connection, None)
        self._known.pop(connection, None)


def _make_room(some: OrderedDict[Any, None], most: int) -> None:
    while len(some) > most:
        oldest, _ = some.popitem(last=False)
        oldest.transport.abort()


def protocol(places: ConnectionPlaces) -> type[asyncio.Protocol]:
    """What uvicorn makes of a connection, with a place and a limit of time for each head."""

    class Placed(_Base):  # type: ignore[misc]
        _patience: asyncio.TimerHandle | None = None

        def connection_made(self, transport: Any) -> None:
            super().connection_made(transport)
            places.arrived(self)
            self._wait()

        def connection_lost(self, exc: Exception | None) -> None:
            self._waited()
            places.left(self)
            super().connection_lost(exc)

        def data_received(self, data: bytes) -> None:
            super().data_received(data)
            if self.cycle is None or self.cycle.response_complete:
                self._wait()
            else:
                self._waited()
                places.asked(self, self.scope["headers"])

        def _wait(self) -> None:
            if self._patience is None:
                self._patience = self.loop.call_later(HEAD_SECONDS, self._give_up)

        def _waited(self) -> None:
            if self._patience is not None:
                self._patience.cancel()
                self._patience = None

        def _give_up(self) -> None:
            self._patience = None
            if self.cycle is None or self.cycle.response_complete:
                self.transport.abort()

    return Placed
