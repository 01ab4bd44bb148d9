"""A PostgreSQL cluster, over its own protocol (psycopg 3)."""

from __future__ import annotations

import hashlib
from collections.abc import Iterator, Mapping, Sequence
from contextlib import contextmanager, suppress
from pathlib import Path
from typing import Any
from urllib.parse import unquote, urlsplit

import msgspec
import psycopg
from psycopg import errors, sql

from justlane.model.errors import (
    ChangeRefusedError,
    OutsideError,
    PlatformChangedError,
    PlatformRefusedError,
    TokenRefusedError,
    UnreachableError,
)
from justlane.model.estate import Platform
from justlane.model.names import one_line
from justlane.outside.certificates import trusted
from justlane.outside.secrets import Destination, Permit, passwords, released
from justlane.platforms.differences import unlike
from justlane.platforms.interface import Corner, Entry, Reading, Shown, Step
from justlane.platforms.postgresql import catalogue, settlement
from justlane.platforms.postgresql.dialect import DIALECT, PRIVILEGES, database_of
from justlane.platforms.postgresql.statements import statements, trial

_LOCK = 0x6A75_7374_6C61_6E65
"""The advisory lock under which changes are made: nobody else aligns meanwhile."""
_SECONDS, _TRIAL_MILLISECONDS, _LOCK_MILLISECONDS = 20, 5000, 1000
_ALLOWED = (errors.UndefinedTable,)
"""What a statement may fail with although the person may: the server looks at privileges first."""
_DENIED = "42501"
_NOT_THE_STEP = ("08", "40", "53", "57", "58", "XX")
"""Classes of errors that say nothing about a step: the connection, a deadlock, resources, a shutdown."""
_PER_MEMBERSHIP = 160000
"""From this version on each membership says whether it is inherited."""


def connect(platform: Platform, folder: Path, permit: Permit) -> Cluster:
    """A connector for the cluster at an address; the first step of its path is the database to begin in."""
    connection = platform.connection
    assert connection is not None
    parts = urlsplit(connection.url)
    host, port = parts.hostname or "localhost", parts.port or 5432
    safe = trusted(folder, connection.trust) if connection.trust else None
    to = Destination(host, port, safe.authority if safe else "", False)
    how: dict[str, Any] = {"host": host, "port": port, "connect_timeout": _SECONDS, "application_name": "justlane"}
    how["options"] = "-c search_path=pg_catalog,pg_temp"  # else a database's owner says what our names mean
    if not to.is_here:
        to = to._replace(encrypted=True)
        how |= {"sslmode": "verify-full", "sslrootcert": str(folder / connection.trust) if safe else "system"}
    account = connection.settings["account"]
    password = released(connection.token, folder, to, permit, "password") if connection.token else None
    known = passwords(connection.passwords, folder, to, permit) if connection.passwords else None
    alone = frozenset((account, *connection.leave_alone))
    begin = unquote(parts.path.strip("/")) or "postgres"
    return Cluster(platform, how, (account, password), known, alone, begin)


class Cluster:
    """One cluster; a connection for each database, opened when it is needed."""

    def __init__(
        self,
        platform: Platform,
        how: dict[str, Any],
        account: tuple[str, str | None],
        known: Mapping[str, str] | None,
        alone: frozenset[str],
        begin: str,
    ) -> None:
        self._platform, self._how, self._account, self._passwords = platform, how, account, known
        self._alone, self._begin = alone, begin
        self._open: dict[str, psycopg.Connection[Any]] = {}
        named = {a.split("/")[1] for a in platform.scopes if "/" in a}
        self._databases = sorted(named) or [begin]

    def close(self) -> None:
        """Let go of the connections."""
        for connection in self._open.values():
            connection.close()
        self._open.clear()

    def read(self) -> Reading:
        """Everything that the catalogue says, of the databases that are declared."""
        with self._told():
            return self._read()

    def places(self) -> dict[str, str]:
        """Address -> kind of every place in the cluster, in all its databases."""
        with self._told():
            first = self._connection(self._begin)
            self._databases = sorted({str(row[0]) for row in self._rows(first, catalogue.DATABASES)})
            return self._held().places

    def make_corner(self, name: str) -> Corner:
        """A schema with a table."""
        database = self._databases[0]
        with self._told():
            connection = self._connection(database)
            with connection.transaction():
                connection.execute(sql.SQL("CREATE SCHEMA {}").format(sql.Identifier(name)))
                connection.execute(sql.SQL("CREATE TABLE {} ()").format(sql.Identifier(name, "t")))
        top = f"{self._platform.name}/{database}/{name}"
        return Corner(name, {top: "schema", f"{top}/t": "table"})

    def remove_corner(self, corner: Corner) -> None:
        """Take the schema away, if nobody else put anything into it."""
        with self._told():
            connection = self._connection(self._databases[0])
            with connection.transaction():
                connection.execute(sql.SQL("DROP TABLE IF EXISTS {}").format(sql.Identifier(corner.name, "t")))
                connection.execute(sql.SQL("DROP SCHEMA IF EXISTS {}").format(sql.Identifier(corner.name)))

    def change(self, steps: Sequence[Step], revision: str, key: str) -> str:
        """Make some changes in one transaction, if the cluster still holds what it held. What comes of them is read
        before they count: nothing else may have changed. PlatformChangedError if it does not."""
        del key  # a transaction that was committed shows in the next reading
        inside = next((d for d in map(database_of, steps) if d), self._databases[0])
        with self._told(), self._together(inside) as connection:
            before = self._read(connection)
            if before.revision != revision:
                raise PlatformChangedError(
                    f"{self._platform.name} was changed by somebody else meanwhile",
                    "run align again: it starts from what is there now",
                )
            roles = {row[0]: row[1] for row in self._rows(connection, catalogue.ROLES)}
            newer = connection.info.server_version >= _PER_MEMBERSHIP
            wanted = before.after(steps)
            for one in (again for step in steps for again in settlement.with_columns(step, wanted)):
                self._make(connection, one, roles.get(one.name), newer=newer)
            after = self._read(connection)
            self._refuse_surprise(wanted, after)
            return after.revision

    @contextmanager
    def _together(self, database: str) -> Iterator[psycopg.Connection[Any]]:
        """A transaction, under the lock."""
        connection = self._connection(database)
        with connection.transaction():
            connection.execute("SELECT pg_advisory_xact_lock(%s)", (_LOCK,))
            yield connection

    def _make(self, connection: psycopg.Connection[Any], step: Step, can_login: bool | None, *, newer: bool) -> None:
        try:
            for statement in statements(step, can_login, newer=newer):
                connection.execute(statement)
        except psycopg.errors.Error as error:
            if error.sqlstate is None or error.sqlstate.startswith(_NOT_THE_STEP):
                raise
            said = explain_failure(error, self._platform.name, self._account[0])
            raise ChangeRefusedError(f"{step.what}: {said.message}", said.hint) from error

    def _refuse_surprise(self, wanted: Reading, found: Reading) -> None:
        """ChangeRefusedError if a change had another effect than was shown."""
        surprise = next((one for one in unlike(DIALECT, wanted, found) if one.part != "groups"), None)
        if surprise is not None:
            message = f"{self._platform.name} would change otherwise than was shown: {surprise.what}"
            raise ChangeRefusedError(message, "look at it there; nothing of this was changed")

    def evaluate(self, user: str, cells: Sequence[tuple[str, str, str]], context: Entry) -> list[bool | None]:
        """Ask the server's own functions, together with what has to be held on the way."""
        del context
        with self._told():
            first = self._connection(self._databases[0])
            can = first.execute("SELECT rolcanlogin FROM pg_catalog.pg_roles WHERE rolname = %s", (user,)).fetchone()
            if not can or not can[0]:
                return [False] * len(cells)
            return [self._may(user, action, kind, scope) for action, kind, scope in cells]

    def can_become(self, user: str) -> bool:
        """Whether their password is known; without any, the server is believed to ask for none."""
        return self._passwords is None or user in self._passwords

    def sign_in(self, user: str, context: Entry) -> PersonSession | None:
        """Really sign in, to some database."""
        del context
        password = (self._passwords or {}).get(user)
        session = PersonSession(self._platform, {**self._how, "user": user, "password": password})
        return session if any(session.enters(name) for name in (*self._databases, "postgres")) else None

    def _read(self, inside: psycopg.Connection[Any] | None = None) -> Reading:
        held = self._held(inside)
        said = msgspec.json.encode(held.parts, order="deterministic")
        return Reading(hashlib.blake2b(said, digest_size=16).hexdigest(), held.parts)

    def _held(self, inside: psycopg.Connection[Any] | None = None) -> catalogue.HeldRoles:
        first = inside or self._connection(self._databases[0])
        roles = self._rows(first, catalogue.ROLES)
        newer = first.info.server_version >= _PER_MEMBERSHIP
        known = catalogue.KnownRoles(
            {row[6]: row[0] for row in roles}, frozenset(row[0] for row in roles if row[1]), self._alone, not newer
        )
        held = catalogue.HeldRoles(self._platform.name, known)
        for database, *rest in self._rows(first, catalogue.DATABASES):
            if database in self._databases:
                owner, *given = rest
                held.place(f"{self._platform.name}/{database}", "database", owner, catalogue.GrantRow(*given))
        for database in self._databases:
            own = inside if inside is not None and inside.info.dbname == database else self._connection(database)
            objects = [*self._rows(own, catalogue.RELATIONS), *self._rows(own, catalogue.FUNCTIONS)]
            columns = self._rows(own, catalogue.COLUMNS)
            held.database(database, self._rows(own, catalogue.SCHEMAS), objects, columns)
            held.defaults(database, self._rows(own, catalogue.DEFAULTS))
            for (what,) in self._rows(own, catalogue.OTHER_GRANTS):
                held.unknown(f"{what} of {self._platform.name}/{database} has grants of its own")
        members = self._rows(first, catalogue.MEMBERS_16 if newer else catalogue.MEMBERS_15)
        held.roles(roles, members, self._ties(first, known, held))
        return held

    def _ties(
        self, first: psycopg.Connection[Any], known: catalogue.KnownRoles, held: catalogue.HeldRoles
    ) -> dict[str, list[str]]:
        """What roles would take with them if they were dropped, but for what a reading shows."""
        found: dict[str, list[str]] = {}
        for oid, says, database, shown in self._rows(first, catalogue.TIES):
            if oid in known.by_oid and not (shown and database in ("", *self._databases)):
                where = f" in database {database}" if database else ""
                found.setdefault(known.by_oid[oid], []).append(f"{says}{where}")
        if self._rows(first, catalogue.MAY_SEE_PASSWORDS)[0][0]:
            for (oid,) in self._rows(first, catalogue.PASSWORDS):
                found.setdefault(known.by_oid.get(oid, ""), []).append("has a password")
        else:
            held.parts["unseen"]["passwords unknown"] = {}
        return found

    def _rows(self, connection: psycopg.Connection[Any], query: str) -> list[Any]:
        return connection.execute(query).fetchall()

    def _may(self, user: str, action: str, kind: str, scope: str) -> bool | None:
        privilege = PRIVILEGES.get(action, {}).get(kind)
        _, database, *inner = scope.split("/")
        if privilege is None:
            return None
        connection = self._connection(database)
        asked: list[tuple[str, sql.Composable, str]] = []
        asked += [("database", sql.Literal(database), "CONNECT")] if kind != "database" or action != "enter" else []
        if len(inner) > 1:
            asked.append(("schema", sql.Literal(inner[0]), "USAGE"))
        asked.append((_FUNCTION_OF.get(kind, kind), _name_of(kind, database, inner), privilege))
        for what, name, wanted in asked:
            question = sql.SQL("SELECT has_{}_privilege({}, {}, {})").format(
                sql.SQL(what), sql.Literal(user), name, sql.Literal(wanted)
            )
            try:
                row = connection.execute(question).fetchone()
            except (errors.UndefinedTable, errors.UndefinedFunction, errors.InvalidSchemaName):
                return None  # there is no such place
            if not row or not row[0]:
                return (
                    privilege in _OF_COLUMNS and what == "table" and self._any_column(connection, user, name, privilege)
                )
        return True

    def _any_column(self, connection: psycopg.Connection[Any], user: str, name: sql.Composable, privilege: str) -> bool:
        """Whether somebody may do it at some column: that is more than nothing."""
        question = sql.SQL("SELECT has_any_column_privilege({}, {}, {})").format(sql.Literal(user), name, privilege)
        row = connection.execute(question).fetchone()
        return bool(row and row[0])

    def _connection(self, database: str) -> psycopg.Connection[Any]:
        if database not in self._open:
            user, password = self._account
            self._open[database] = psycopg.connect(
                **self._how, dbname=database, user=user, password=password, autocommit=True
            )
        return self._open[database]

    @contextmanager
    def _told(self) -> Iterator[None]:
        """Every failure of the library as one of ours."""
        try:
            yield
        except psycopg.Error as error:
            raise explain_failure(error, self._platform.name, self._account[0]) from error


def explain_failure(error: psycopg.Error, who: str, account: str) -> OutsideError:
    """Our error for whatever the library raised, with what to do."""
    said = one_line(str(error)) or type(error).__name__
    if error.sqlstate == _DENIED:
        hint = f"let {account} own what is granted there, or be a superuser"
        return PlatformRefusedError(f"{who} does not let {account} do that: {said}", hint)
    if error.sqlstate is None or error.sqlstate.startswith("08"):
        if "password" in said or "authentication" in said:
            hint = "see what `token from` in `reached by` names, and whether it is the password of `account`"
            return TokenRefusedError(f"{who} does not let {account} sign in: {said}", hint)
        return UnreachableError(f"{who} cannot be reached: {said}", "start it, or correct the url")
    return PlatformRefusedError(f"{who} answered {error.sqlstate}: {said}", "see its own log, then try again")


_FUNCTION_OF = {"view": "table"}
_OF_COLUMNS = ("SELECT", "INSERT", "UPDATE", "REFERENCES")


def _name_of(kind: str, database: str, inner: list[str]) -> sql.Composable:
    """A place as the server's functions name it."""
    if kind == "database":
        return sql.Literal(database)
    if kind == "schema":
        return sql.Literal(inner[0])
    name = inner[1]
    quoted = ".".join('"' + part.replace('"', '""') + '"' for part in (inner[0], name.partition("(")[0]))
    return sql.Literal(quoted + (f"({name.partition('(')[2]}" if kind == "function" else ""))


class PersonSession:
    """A person, signed in with their own name."""

    def __init__(self, platform: Platform, how: dict[str, Any]) -> None:
        self._platform, self._how = platform, how
        self._open: dict[str, psycopg.Connection[Any] | None] = {}

    def enters(self, database: str) -> bool:
        """Whether the server lets them into a database."""
        if database not in self._open:
            try:
                self._open[database] = psycopg.connect(**self._how, dbname=database)
            except psycopg.OperationalError:
                self._open[database] = None
        return self._open[database] is not None

    def sees(self) -> dict[str, Shown] | None:
        """Catalogues are open to everybody: nothing is hidden that could be compared."""
        return None

    def attempt(self, action: str, scope: str) -> bool | None:
        """Try it in a transaction that is rolled back."""
        kind = self._platform.scopes[scope].kind
        _, database, *inner = scope.split("/")
        entered = self.enters(database)
        if kind == "database" and action == "enter":
            return entered
        connection = self._open[database]
        if connection is None:
            return False
        return _tried(connection, action, kind, inner or [database])

    def close(self) -> None:
        """Sign out."""
        for connection in self._open.values():
            if connection is not None:
                connection.close()


def _tried(connection: psycopg.Connection[Any], action: str, kind: str, names: list[str]) -> bool | None:
    try:
        with connection.transaction(force_rollback=True):
            connection.execute(sql.SQL("SET LOCAL statement_timeout = {}").format(sql.Literal(_TRIAL_MILLISECONDS)))
            connection.execute(sql.SQL("SET LOCAL lock_timeout = {}").format(sql.Literal(_LOCK_MILLISECONDS)))
            statement = trial(connection, action, kind, names)
            if statement is None:
                return None
            connection.execute(statement)
            return True
    except errors.InsufficientPrivilege:
        return False
    except _ALLOWED:
        return True
    except (errors.QueryCanceled, errors.LockNotAvailable, PlatformRefusedError):
        return None
    except psycopg.OperationalError:
        with suppress(psycopg.Error):
            connection.close()
        return None
    except psycopg.Error:
        return None
