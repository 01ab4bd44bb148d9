"""The only way from Subversion's client to a server that speaks HTTP: to the address that was allowed, and to no other.

The client follows a server's redirect, with the password. So it is told to go through a listener of ours on this
machine, which passes on what it says to that one address, and refuses the rest.
"""

from __future__ import annotations

import re
import socket
import threading
from collections.abc import Iterator
from contextlib import closing, contextmanager, suppress

_HEAD = 65_536
_SECONDS = 30
_ASKED = re.compile(rb"^(?P<verb>[A-Z]+) (?P<to>\S+) HTTP/1\.[01]\r\n")
_ADDRESS = re.compile(rb"^(?:http://)?(?P<host>\[[^\]]+\]|[^:/?#@\[]+)(?::(?P<port>\d{1,5}))?(?P<rest>/.*)?$")
_REFUSED = b"HTTP/1.1 403 Forbidden\r\nContent-Length: 0\r\nConnection: close\r\n\r\n"
_JOINED = b"HTTP/1.1 200 Connection established\r\n\r\n"


@contextmanager
def only_way(host: str, port: int) -> Iterator[int]:
    """The port of a listener on this machine that leads to one address, as long as the context lasts."""
    with closing(socket.create_server(("127.0.0.1", 0))) as listener:
        threading.Thread(target=_listen, args=(listener, host.lower(), port), daemon=True).start()
        yield listener.getsockname()[1]
        with suppress(OSError):
            listener.shutdown(socket.SHUT_RDWR)


def _listen(listener: socket.socket, host: str, port: int) -> None:
    with suppress(OSError):  # closed: it is over
        while True:
            client, _ = listener.accept()
            threading.Thread(target=_lead, args=(client, host, port), daemon=True).start()


def _lead(client: socket.socket, host: str, port: int) -> None:
    with closing(client), suppress(OSError):
        client.settimeout(_SECONDS)
        head = b""
        while b"\r\n\r\n" not in head and len(head) < _HEAD:
            more = client.recv(_HEAD)
            if not more:
                return
            head += more
        asked = _ASKED.match(head)
        tunnel = asked is not None and asked["verb"] == b"CONNECT"
        if asked is None or _address(asked["to"], 443 if tunnel else 80) != (host, port):
            client.sendall(_REFUSED)
            return
        with closing(socket.create_connection((host, port), _SECONDS)) as server:
            if tunnel:
                client.sendall(_JOINED)
            else:
                server.sendall(head)
            # whatever else is asked on this connection, wherever it says that it is for, goes to the same server
            back = threading.Thread(target=_pass_on, args=(server, client), daemon=True)
            back.start()
            _pass_on(client, server)
            back.join(_SECONDS)


def _address(said: bytes, usual: int) -> tuple[str, int] | None:
    found = _ADDRESS.match(said)
    if found is None:
        return None
    return found["host"].decode("ascii", "replace").strip("[]").lower(), int(found["port"] or usual)


def _pass_on(one: socket.socket, other: socket.socket) -> None:
    with suppress(OSError):
        while some := one.recv(_HEAD):
            other.sendall(some)
    with suppress(OSError):
        other.shutdown(socket.SHUT_WR)
