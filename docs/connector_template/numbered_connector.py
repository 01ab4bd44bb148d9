"""A second template: a service over HTTP that knows people and places by numbers, answers in pages, limits how often
one asks, and shows a change only after a while (`numbered_server.py` beside this file is one).

    reached by: {connector: numbered, url: http://127.0.0.1:8500, token from: file secrets/numbered}

It has no transactions: each step is a portion of its own, so *all or none* holds for each by itself.
"""

from __future__ import annotations

import hashlib
import json
import time
from collections.abc import Iterator, Sequence
from datetime import datetime
from pathlib import Path
from typing import Any

from justlane.connectors import (
    Abilities,
    Answer,
    ChangeRefusedError,
    Corner,
    Decides,
    Declared,
    Dialect,
    Entry,
    Estate,
    EstateIndex,
    Limits,
    NonsenseError,
    Part,
    Permit,
    Platform,
    PlatformChangedError,
    PlatformRefusedError,
    Principal,
    PrincipalKind,
    Reading,
    Service,
    Settings,
    Sort,
    Step,
    TimedOutError,
    TokenRefusedError,
    cells,
    destination_of,
    directory_of,
    estate_of,
    people_behind,
    released,
    trusted,
)

TRIES, PATIENCE, LAG = 8, 20, 0.2


class NumberedDialect(Dialect):
    """Who has which right at which place, by logins and addresses: numbers are the connector's business."""

    parts = ("grants",)
    sorts = {"grants": Sort("grant", "grants")}
    everybody_signs_in = False
    settings = Settings(needed=("url", "token from"), optional=("trust",))
    abilities = Abilities(
        decides=frozenset((Decides.ANY_ALLOW,)),
        habits=frozenset(),
        conditions=frozenset(),
        principals=frozenset((PrincipalKind.GROUP, PrincipalKind.USER)),
        means=frozenset(("here only", "resource groups")),
    )

    def declared(self, index: EstateIndex, platform: str, moment: datetime) -> Declared:
        """Groups are written out: the service knows people alone."""
        grants: Part = {}
        lines: dict[tuple[str, str], tuple[Any, ...]] = {}
        for cell, sources in cells(index, platform, moment).items():
            for login in people_behind(index, [cell.principal], moment):
                name = f"{login} {cell.action} {cell.scope}"
                grants[name] = {"who": login, "right": cell.action, "place": cell.scope}
                lines["grants", name] = (*lines.get(("grants", name), ()), *sources)
        return Declared({"grants": grants}, lines)

    def as_read(self, index: EstateIndex, platform: str, reading: Reading) -> Estate:
        """Each grant as a binding to a person, for its place alone."""
        given = list(self._given(reading))
        return estate_of(index, platform, directory_of({to.name for to, *_ in given}, {}), given)

    def words(self, part: str, name: str, entry: Entry) -> str:
        """As somebody says it."""
        return f"{entry.get('right')} at {entry.get('place')} to {entry.get('who')}"

    def strokes(self, reading: Reading, steps: tuple[Step, ...]) -> tuple[tuple[Step, ...], ...]:
        """First what is given, then what is taken, each by itself: the service makes no two changes at once."""
        return tuple((step,) for step in sorted(steps, key=lambda step: step.after is None))

    def unjudged(self, index: EstateIndex, platform: str, reading: Reading) -> tuple[str, ...]:
        """Grants of what the estate does not know, or of numbers that the service itself does not."""
        some = ((entry, _missing(index, platform, entry)) for entry in reading.part("grants").values())
        return tuple(f"{self.words('grants', '', entry)}: {missing}" for entry, missing in some if missing)

    def uncounted(self, index: EstateIndex, platform: str, reading: Reading, part: str, entry: Entry) -> str:
        """Why such a grant is in no count."""
        missing = _missing(index, platform, entry)
        return f"not judged: {missing}" if missing else ""

    def _given(self, reading: Reading) -> Iterator[tuple[Principal, frozenset[str], str, bool]]:
        for entry in reading.part("grants").values():
            who, right, place = (entry.get(key) for key in ("who", "right", "place"))
            if isinstance(who, str) and isinstance(right, str) and isinstance(place, str):
                yield Principal(PrincipalKind.USER, who), frozenset((right,)), place, True


def _missing(index: EstateIndex, platform: str, entry: Entry) -> str:
    declared = index.platform(platform).platform
    known = {"right": declared.actions, "place": declared.scopes}
    missing = [f"{key} {entry.get(key)!r}" for key, some in known.items() if entry.get(key) not in some]
    return f"the estate knows no {', no '.join(missing)}" if missing else ""


class Numbered:
    """The service."""

    def __init__(self, platform: Platform, service: Service, token: str) -> None:
        self._platform, self._service = platform, service
        self._headers = {"Authorization": f"Bearer {token}"}
        self._numbers: dict[str, int] = {}
        """Name of a grant -> its number, as last read."""

    def close(self) -> None:
        """Let go of the connection."""
        self._service.close()

    def read(self) -> Reading:
        """All pages; names instead of numbers."""
        logins = {item["number"]: str(item["login"]) for item in self._all("accounts")}
        places = {item["number"]: str(item["address"]) for item in self._all("places")}
        grants: Part = {}
        self._numbers = {}
        for item in self._all("grants"):
            who = logins.get(item["account"], f"account {item['account']}")
            place = places.get(item["place"], f"place {item['place']}")
            name = f"{who} {item['right']} {place}"
            grants[name] = {"who": who, "right": item["right"], "place": place}
            self._numbers[name] = item["number"]
        said = json.dumps(grants, sort_keys=True).encode()
        return Reading(hashlib.blake2b(said, digest_size=16).hexdigest(), {"grants": grants})

    def change(self, steps: Sequence[Step], revision: str, key: str) -> str:
        """One step, seen before it is done; then waited for until the service shows it."""
        del key
        (step,) = steps
        now = self.read()
        if now.revision != revision:
            raise PlatformChangedError(f"{self._platform.name} was changed meanwhile", "run align again")
        if step.after is None:
            self._ask("DELETE", f"/grants/{self._numbers[step.name]}")
        else:
            logins = {str(item["login"]): item["number"] for item in self._all("accounts")}
            places = {str(item["address"]): item["number"] for item in self._all("places")}
            account, place = logins.get(str(step.after["who"])), places.get(str(step.after["place"]))
            self._ask("POST", "/grants", {"account": account, "place": place, "right": step.after["right"]})
        wanted = now.changed([(step.part, step.name, step.after)]).parts
        return self._awaited(wanted)

    def _awaited(self, wanted: dict[str, Part]) -> str:
        """The revision with a change in it. A service that lags behind is asked until it shows what it was told."""
        ends = time.monotonic() + PATIENCE
        while time.monotonic() < ends:
            now = self.read()
            if now.parts == wanted:
                return now.revision
            time.sleep(LAG)
        raise TimedOutError(f"{self._platform.name} does not show what it was told", "run align again: it reads anew")

    def make_corner(self, name: str) -> Corner:
        """A place of its own number; accounts cannot be made, so one that is there is named."""
        address = f"{self._platform.name}/{name}"
        self._ask("POST", "/places", {"number": 900, "address": address})
        account = next(self._all("accounts"))
        return Corner(name, {address: "place"}, (str(account["login"]),))

    def remove_corner(self, corner: Corner) -> None:
        """The service takes no place away; one without grants gives nobody anything."""

    def evaluate(self, user: str, cells: Sequence[tuple[str, str, str]], context: Entry) -> list[bool | None]:
        """What its lists say."""
        del context
        grants = self.read().part("grants")
        return [f"{user} {action} {scope}" in grants for action, _, scope in cells]

    def can_become(self, user: str) -> bool:
        """Nobody else's password is known."""
        del user
        return False

    def sign_in(self, user: str, context: Entry) -> None:
        """Nobody can."""

    def _all(self, what: str) -> Iterator[dict[str, Any]]:
        """Every item, page by page."""
        after: int | None = 0
        while after is not None:
            answer = self._ask("GET", f"/{what}", params={"after": str(after)})
            page = self._service.decoded(answer, dict[str, Any])
            if not isinstance(page.get("items"), list):
                raise NonsenseError(f"{self._platform.name} answered no list of {what}", "see what is at that address")
            yield from page["items"]
            after = page.get("next")

    def _ask(self, method: str, path: str, body: object = None, params: dict[str, str] | None = None) -> Answer:
        """One answer; who is asked too often is waited for as long as it says."""
        for _ in range(TRIES):
            answer = self._service.ask(method, path, headers=self._headers, body=body, params=params)
            if answer.status != 429:
                break
            time.sleep(min(float(answer.headers.get("Retry-After", "1")), PATIENCE))
        if answer.status == 401:
            raise TokenRefusedError(f"{self._platform.name} does not accept the token", "see `token from`")
        if answer.status in (404, 422) and method != "GET":
            message = f"{self._platform.name} did not do it: {answer.content[:200]!r}"
            raise ChangeRefusedError(message, "see what it names")
        if answer.status >= 300:
            raise PlatformRefusedError(f"{self._platform.name} answered {answer.status}", "see its own log")
        return answer


DIALECT = NumberedDialect()


def connect(platform: Platform, folder: Path, permit: Permit) -> Numbered:
    """`url` says where it is; the token goes there and nowhere else, and only if the person agrees."""
    connection = platform.connection
    assert connection is not None
    assert connection.token is not None
    safe = trusted(folder, connection.trust) if connection.url.startswith("https:") else None
    to = destination_of(connection.url, safe.authority if safe else "")
    token = released(connection.token, folder, to, permit)
    return Numbered(platform, Service(platform.name, connection.url, safe, Limits(30)), token)
