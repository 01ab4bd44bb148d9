"""The statements that make a change, and those that try an action without leaving anything behind."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any

from psycopg import Connection, sql

from justlane.model.errors import PlatformRefusedError
from justlane.platforms.interface import Entry, Step
from justlane.platforms.postgresql.dialect import grantee_of

Statement = sql.Composed | sql.SQL
_ON = {"database": "DATABASE", "schema": "SCHEMA", "table": "TABLE", "view": "TABLE", "sequence": "SEQUENCE"}
TRIAL = "justlane_trial"
"""What a trial would make is called so; it is rolled back."""


def statements(step: Step, can_login: bool | None) -> Iterator[Statement]:
    """What makes one change. `can_login` is what the role of that name is now; None if there is none."""
    if step.part == "people":
        yield from _person(step, can_login)
    elif step.part == "groups":
        yield from _group(step, can_login)
    elif step.part == "memberships":
        yield from _membership(step)
    elif step.part == "grants":
        yield from _grant(step)


def _person(step: Step, can_login: bool | None) -> Iterator[Statement]:
    name = sql.Identifier(step.name)
    if step.after is None:
        yield sql.SQL("ALTER ROLE {} NOLOGIN").format(name)
    elif can_login is None:
        yield sql.SQL("CREATE ROLE {} LOGIN INHERIT").format(name)
    else:
        yield sql.SQL("ALTER ROLE {} LOGIN INHERIT").format(name)


def _group(step: Step, can_login: bool | None) -> Iterator[Statement]:
    name = sql.Identifier(step.name)
    if step.after is None:
        yield sql.SQL("DROP ROLE {}").format(name)
    elif can_login is None:
        yield sql.SQL("CREATE ROLE {} NOLOGIN").format(name)


def _membership(step: Step) -> Iterator[Statement]:
    entry = step.after or step.before or {}
    member = grantee_of(entry.get("member"))
    assert member is not None
    of, who = sql.Identifier(str(entry["of"])), sql.Identifier(member.name)
    if step.after is None:
        yield sql.SQL("REVOKE {} FROM {} CASCADE").format(of, who)
        return
    if step.before is not None and step.before.get("admin"):
        yield sql.SQL("REVOKE ADMIN OPTION FOR {} FROM {} CASCADE").format(of, who)
    yield sql.SQL("ALTER ROLE {} INHERIT").format(who)
    yield sql.SQL("GRANT {} TO {}").format(of, who)


def _grant(step: Step) -> Iterator[Statement]:
    entry = step.after or step.before or {}
    to = grantee_of(entry.get("to"))
    assert to is not None
    who = sql.Identifier(to.name) if to.name else sql.SQL("PUBLIC")
    what = sql.SQL("{} ON {}").format(sql.SQL(_checked(str(entry["privilege"]))), place(entry))
    if step.after is None:
        yield sql.SQL("REVOKE {} FROM {} CASCADE").format(what, who)
    elif step.before is not None:
        yield sql.SQL("REVOKE GRANT OPTION FOR {} FROM {} CASCADE").format(what, who)
    else:
        yield sql.SQL("GRANT {} TO {}").format(what, who)


def _checked(privilege: str) -> str:
    assert privilege.isalpha(), privilege  # one of the server's own words
    return privilege


def place(entry: Entry) -> sql.Composable:
    """A place as GRANT names it."""
    _, *names = str(entry["place"]).split("/")
    if entry["kind"] == "function":
        return sql.SQL("ROUTINE {}").format(function(names[1], names[2]))
    on = sql.SQL(_ON[str(entry["kind"])])
    return sql.SQL("{} {}").format(on, sql.Identifier(*(names if len(names) == 1 else names[1:])))


def function(schema: str, name: str) -> sql.Composable:
    """A function with its argument types, which the server wrote itself."""
    called, _, arguments = name.partition("(")
    return sql.SQL("{}({})").format(sql.Identifier(schema, called), _arguments(arguments.removesuffix(")")))


def _arguments(text: str) -> sql.Composable:
    """Argument types as the catalogue writes them; only words, spaces, commas, brackets, dots and quotes."""
    if any(character in text for character in ";'\\") or "--" in text or "/*" in text:
        raise PlatformRefusedError(f"the argument types {text!r} are not taken into a statement", "grant it by hand")
    return sql.SQL(text)


def trial(connection: Connection[Any], action: str, kind: str, names: list[str]) -> Statement | None:
    """A statement that the server lets happen just where the action is allowed; None if none is without harm."""
    if (action, kind) in _PLAIN:
        return sql.SQL(_PLAIN[action, kind]).format(sql.Identifier(names[0]), sql.Identifier(TRIAL))
    if len(names) < 2:
        return None
    thing = sql.Identifier(*names)
    if action == "select":
        return sql.SQL("SELECT * FROM {} LIMIT 1").format(thing)
    if action == "delete" and kind == "table":
        return sql.SQL("DELETE FROM {} WHERE false").format(thing)
    if action in ("insert", "update") and kind == "table":
        column = _column(connection, names)
        form = "INSERT INTO {0} ({1}) SELECT NULL WHERE false" if action == "insert" else _UPDATE
        return sql.SQL(form).format(thing, sql.Identifier(column)) if column else None
    if action == "execute":
        return _call(connection, names)
    return None


_UPDATE = "UPDATE {0} SET {1} = NULL WHERE false"
_PLAIN = {
    ("enter", "schema"): "SELECT FROM {0}.{1}",
    ("make-in", "schema"): "CREATE TABLE {0}.{1} ()",
    ("make-in", "database"): "CREATE SCHEMA {1}",
    ("temporary", "database"): "CREATE TEMPORARY TABLE {1} ()",
}
_COLUMN = """
select a.attname from pg_catalog.pg_attribute a join pg_catalog.pg_class c on c.oid = a.attrelid
join pg_catalog.pg_namespace n on n.oid = c.relnamespace
where n.nspname = %s and c.relname = %s and a.attnum > 0
  and not a.attisdropped and a.attgenerated = '' and a.attidentity <> 'a'
order by a.attnum limit 1
"""
_FUNCTION = """
select p.pronargs, p.prokind::text, p.oid::int8
from pg_catalog.pg_proc p join pg_catalog.pg_namespace n on n.oid = p.pronamespace
where n.nspname = %s and p.proname || '(' || oidvectortypes(p.proargtypes) || ')' = %s
"""
_TYPES = """
select format_type(t, null)
from unnest((select proargtypes from pg_catalog.pg_proc where oid = %s)) with ordinality a(t, n) order by n
"""


def _column(connection: Connection[Any], names: list[str]) -> str:
    row = connection.execute(_COLUMN, names).fetchone()
    return str(row[0]) if row else ""


def _call(connection: Connection[Any], names: list[str]) -> Statement | None:
    """A call with nothing as every argument; triggers, aggregates and procedures are not called."""
    row = connection.execute(_FUNCTION, names).fetchone()
    if row is None or row[1] != "f":
        return None
    types = [str(found[0]) for found in connection.execute(_TYPES, (row[2],))]
    if "trigger" in types:
        return None
    nothing = sql.SQL(", ").join(sql.SQL("NULL::{}").format(_arguments(name)) for name in types)
    called = sql.Identifier(names[0], names[1].partition("(")[0])
    return sql.SQL("SELECT {}({})").format(called, nothing)
