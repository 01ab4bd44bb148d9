"""Damaged LDIF, LDAP and SCIM: never a foreign exception, never wrong people taken for good."""

from __future__ import annotations

import contextlib
import json
import re
import socket
import tempfile
import unittest
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import Any

from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from justlane.directories.interface import read_people
from justlane.files.reading.directory_shapes import DirectoryShape
from justlane.model.errors import JustLaneError
from justlane.model.findings import Severity
from tests.directory_server import SUFFIX, Authority, DirectoryServer, answering
from tests.scim_server import ScimAnswers

OFTEN = settings(max_examples=150, deadline=None, derandomize=True, suppress_health_check=list(HealthCheck))
PEOPLE = "".join(f"dn: uid=p{n},ou=people,{SUFFIX}\nobjectClass: inetOrgPerson\nuid: p{n}\ncn: Person {n}\nsn: {n}\n\n" for n in range(9))
CREW = f"dn: cn=crew,ou=groups,{SUFFIX}\nobjectClass: groupOfNames\ncn: crew\n" + "".join(f"member: uid=p{n},ou=people,{SUFFIX}\n" for n in range(9))
Outcome = tuple[frozenset[str], int]
"""Logins, and the number of memberships, those included of which it is said that they name nobody who was read."""
GONE = object()
FREE = ("displayName", "schemas", "itemsPerPage", "startIndex", "active", "type", "members")
"""Attributes that may be missing, or be anything."""
ALL: Outcome = (frozenset(f"p{n}" for n in range(9)), 9)


def outcome(shape: dict[str, Any], folder: Path) -> Outcome | None:
    """What is read; None if it is an error of ours. Any other exception fails the test."""
    try:
        intake = read_people("office", DirectoryShape.model_validate(shape), folder)
    except JustLaneError:
        return None
    edges = intake.edges()
    if any(f.severity is Severity.ERROR for f in intake.findings):
        return None
    return frozenset(intake.logins), len(edges.members) + len(intake.findings)


class LdifTest(unittest.TestCase):
    @OFTEN
    @given(st.data())
    def test_any_damage(self, data: st.DataObject) -> None:
        content = bytearray((PEOPLE + CREW).encode())
        at = data.draw(st.integers(0, len(content) - 1))
        match data.draw(st.sampled_from(["cut", "replaced", "taken out"])):
            case "cut":
                del content[at:]
            case "replaced":
                content[at : at + 1] = data.draw(st.binary(max_size=4))
            case _:
                del content[at : at + data.draw(st.integers(1, 80))]
        with tempfile.TemporaryDirectory() as folder:
            (Path(folder) / "people.ldif").write_bytes(content)
            outcome({"ldif": "people.ldif"}, Path(folder))

    @OFTEN
    @given(st.binary(max_size=300))
    def test_anything_at_all(self, content: bytes) -> None:
        with tempfile.TemporaryDirectory() as folder:
            (Path(folder) / "people.ldif").write_bytes(content)
            outcome({"ldif": "people.ldif"}, Path(folder))


def split(stream: bytes) -> list[tuple[int, bytes]]:
    """The messages of LDAP (BER sequences) in a stream, each with its number and what follows it."""
    found = []
    while stream:
        size, start = stream[1], 2
        if size & 0x80:
            start += size & 0x7F
            size = int.from_bytes(stream[2:start], "big")
        body = start + 2 + stream[start + 1]
        found.append((int.from_bytes(stream[start + 2 : body], "big"), stream[body : start + size]))
        stream = stream[start + size :]
    return found


def joined(number: int, bodies: list[bytes]) -> list[bytes]:
    """Messages under another number."""
    found = []
    for body in bodies:
        inside = b"\x02\x04" + number.to_bytes(4, "big") + body
        found.append(b"\x30\x84" + len(inside).to_bytes(4, "big") + inside)
    return found


Spoil = Callable[[int, list[bytes]], bytes]
"""Given the place of an answer and its messages, what is sent instead."""


class LdapTest(unittest.TestCase):
    """A recorded conversation is answered again, with damage."""

    recorded: list[list[bytes]]
    """For each request, the messages of the answer, without their numbers."""

    @classmethod
    def setUpClass(cls) -> None:
        with tempfile.TemporaryDirectory(prefix="lane") as name:
            Authority(Path(name))
            server = DirectoryServer(Path(name), PEOPLE + CREW)
            try:
                cls.recorded = cls.record(server.plain)
            finally:
                server.stop()

    @classmethod
    def record(cls, upstream: int) -> list[list[bytes]]:
        answers: dict[int, list[bytes]] = {}

        def serve(client: socket.socket) -> None:
            with socket.create_connection(("127.0.0.1", upstream)) as server:
                server.settimeout(0.2)
                while request := client.recv(65536):
                    server.sendall(request)
                    stream = b""
                    with contextlib.suppress(TimeoutError):
                        while data := server.recv(65536):
                            stream += data
                    client.sendall(stream)
                    for number, body in split(stream):
                        answers.setdefault(number, []).append(body)

        with answering(serve) as port:
            assert outcome(cls.shape(port), Path()) == ALL
        return [answers[key] for key in sorted(answers)]

    @staticmethod
    def shape(port: int) -> dict[str, Any]:
        inside = {"people": {"under": f"ou=people,{SUFFIX}"}, "groups": {"under": f"ou=groups,{SUFFIX}"}}
        manners = {"encryption": "none", "sign in by": "nobody", "page size": 4, "wait at most": 5}
        return {"ldap": {"url": f"ldap://127.0.0.1:{port}", **manners, **inside}}

    def replayed(self, spoil: Spoil, patience: float = 0.05) -> Outcome | None:
        """What is read from a server that answers as recorded, spoilt, and hangs up when nobody asks any more."""

        def serve(client: socket.socket) -> None:
            client.settimeout(patience)
            for place, bodies in enumerate(self.recorded):
                for number, _ in split(client.recv(65536))[:1]:
                    client.sendall(spoil(place, joined(number, bodies)))
            client.recv(65536)

        with answering(serve) as port:
            return outcome(self.shape(port), Path())

    def test_the_record_is_true(self) -> None:
        self.assertGreater(len(self.recorded), 4)
        self.assertEqual(self.replayed(lambda _, messages: b"".join(messages), 5), ALL)

    @OFTEN
    @given(st.integers(0, 4), st.floats(0, 1, exclude_max=True))
    def test_an_answer_that_ends_too_early(self, broken: int, share: float) -> None:
        def spoil(place: int, messages: list[bytes]) -> bytes:
            whole = b"".join(messages)
            return whole[: int(len(whole) * share)] if place >= broken else whole

        self.assertIsNone(self.replayed(spoil))

    def test_every_result_but_success_is_an_error(self) -> None:
        for broken in range(len(self.recorded)):
            for code in (1, 2, 3, 4, 8, 10, 11, 12, 18, 32, 50, 51, 52, 53, 80, 118, 127):

                def spoil(place: int, messages: list[bytes], broken: int = broken, code: int = code) -> bytes:
                    done = messages[-1]
                    at = done.index(b"\x0a\x01\x00") + 2
                    if place == broken:
                        messages[-1] = done[:at] + bytes([code]) + done[at + 1 :]
                    return b"".join(messages)

                with self.subTest(broken=broken, code=code):
                    self.assertIsNone(self.replayed(spoil))

    @OFTEN
    @given(st.integers(0, 4), st.integers(0, 9), st.integers(0, 60), st.binary(max_size=3))
    def test_damaged_bytes_bring_nobody_who_does_not_exist(self, broken: int, which: int, at: int, other: bytes) -> None:
        def spoil(place: int, messages: list[bytes]) -> bytes:
            if place == broken:
                which_one = which % len(messages)
                content = messages[which_one]
                messages[which_one] = content[:at] + other + content[at + 1 :]
            return b"".join(messages)

        found = self.replayed(spoil)
        self.assertLessEqual(len(found[0]) if found else 0, len(ALL[0]))

    @OFTEN
    @given(st.integers(0, 4), st.binary(min_size=1, max_size=60))
    def test_garbage(self, broken: int, garbage: bytes) -> None:
        self.assertIsNone(self.replayed(lambda place, messages: garbage if place == broken else b"".join(messages)))


def tlv(tag: int, *parts: bytes) -> bytes:
    """A value of BER."""
    inside = b"".join(parts)
    return bytes([tag, 0x84]) + len(inside).to_bytes(4, "big") + inside


def done(tag: int) -> bytes:
    return tlv(tag, tlv(10, b"\0"), tlv(4), tlv(4))


def entry(dn: str, **attributes: list[str]) -> bytes:
    listed = [tlv(48, tlv(4, name.encode()), tlv(49, *[tlv(4, v.encode()) for v in some])) for name, some in attributes.items()]
    return tlv(0x64, tlv(4, dn.encode()), tlv(48, *listed))


LAST_PAGE = tlv(0xA0, tlv(48, tlv(4, b"1.2.840.113556.1.4.319"), tlv(4, tlv(48, tlv(2, b"\0"), tlv(4)))))


class PortionsTest(unittest.TestCase):
    """A server that sends the members of a large group in portions of four."""

    def read(self, portion: Callable[[int], tuple[str, list[str]] | None]) -> Outcome | None:
        """What is read, if the members from a number on come as told."""
        group = f"cn=crew,ou=groups,{SUFFIX}"

        def answer(body: bytes) -> list[bytes]:
            if body[0] == 0x60:
                return [done(0x61)]
            asked = re.search(rb"range=(\d+)-", body)
            if b"ou=people" in body:
                found = [entry(f"uid=p{n},ou=people,{SUFFIX}", uid=[f"p{n}"]) for n in range(9)]
            else:
                some = portion(int(asked.group(1)) if asked else 0)
                found = [entry(group, cn=["crew"], **{some[0]: some[1]})] if some else []
            return [*found, done(0x65) + (b"" if asked else LAST_PAGE)]

        def serve(client: socket.socket) -> None:
            while request := client.recv(65536):
                for number, body in split(request):
                    if body[0] != 0x42:
                        client.sendall(b"".join(joined(number, answer(body))))

        with answering(serve) as port:
            return outcome(LdapTest.shape(port), Path())

    def test_large_groups_are_put_together_and_a_missing_portion_is_an_error(self) -> None:
        names = [f"uid=p{n},ou=people,{SUFFIX}" for n in range(9)]

        def right(start: int) -> tuple[str, list[str]]:
            end = "*" if start + 4 >= 9 else str(start + 3)
            return f"member;range={start}-{end}", names[start : start + 4]

        self.assertEqual(self.read(right), ALL)
        self.assertIsNone(self.read(lambda start: right(start) if start < 4 else None))
        self.assertIsNone(self.read(lambda start: right(0)))
        self.assertIsNone(self.read(lambda start: (right(start)[0], right(start)[1][:2])))
        self.assertIsNone(self.read(lambda start: right(start) if start < 8 else ("description", ["crew"])))


class ScimTest(unittest.TestCase):
    """A service whose answers are damaged."""

    def read(self, change: Callable[[str, dict[str, Any]], Any]) -> Outcome | None:
        with ScimAnswers(change) as service:
            return outcome(service.shape(), service.folder)

    def test_the_record_is_true(self) -> None:
        self.assertEqual(self.read(lambda kind, page: page), ALL)

    @OFTEN
    @given(st.data())
    def test_any_damage(self, data: st.DataObject) -> None:
        """Whatever is replaced in an answer: an error, or all people with all their memberships."""
        damaged = data.draw(st.integers(0, 3))
        cut, place = data.draw(st.none() | st.floats(0, 1)), data.draw(st.integers(0, 100))
        other = data.draw(st.sampled_from([GONE, None, -1, 10**30, [], {}, "", "nobody", True, 1.5]))
        asked = 0

        def change(kind: str, page: dict[str, Any]) -> Any:
            nonlocal asked
            asked += 1
            if asked - 1 != damaged:
                return page
            if cut is not None:
                text = json.dumps(page)
                return text[: int(cut * (len(text) - 1))].encode()
            holders = [(holder, key) for holder, key in _holders(page) if key not in FREE]
            if other is GONE:  # a member that a service leaves out cannot be missed
                holders = [(holder, key) for holder, key in holders if "value" not in str(holder[key])]
            holder, key = holders[place % len(holders)]
            if other is GONE:
                del holder[key]
            else:
                holder[key] = other
            return page

        found = self.read(change)
        self.assertTrue(found is None or (len(found[0]), found[1]) == (9, 9), found)


def _holders(value: Any) -> Iterator[tuple[Any, Any]]:
    if isinstance(value, dict | list):
        for key, inner in list(value.items() if isinstance(value, dict) else enumerate(value)):
            yield value, key
            yield from _holders(inner)
