"""The statements that make a change, and those that try an action without leaving anything behind."""

from __future__ import annotations

import re
from collections.abc import Iterator
from typing import Any

from psycopg import Connection, sql

from justlane.model.errors import ChangeRefusedError
from justlane.platforms.interface import Entry, Step
from justlane.platforms.postgresql.dialect import grantee_of

Statement = sql.Composed | sql.SQL
_ON = {"database": "DATABASE", "schema": "SCHEMA", "table": "TABLE", "view": "TABLE", "sequence": "SEQUENCE"}
TRIAL = "justlane_trial"
"""What a trial would make is called so; it is rolled back."""


def statements(step: Step, can_login: bool | None, *, newer: bool) -> Iterator[Statement]:
    """What makes one change. `can_login` is what the role of that name is now; None if there is none. `newer` servers
    (16 and later) keep for each membership whether it is inherited."""
    entry = step.after or step.before or {}
    if step.part == "people":
        yield from _person(step, can_login)
    elif step.part == "groups":
        yield from _group(step, can_login)
    elif "of" in entry:
        yield from _membership(step, newer=newer)
    else:
        yield from _grant(step)


def _person(step: Step, can_login: bool | None) -> Iterator[Statement]:
    name = sql.Identifier(step.name)
    if step.after is None:
        yield sql.SQL("DROP ROLE {}").format(name)
        return
    if can_login is None:
        yield sql.SQL("CREATE ROLE {} NOLOGIN").format(name)
    login = sql.SQL("LOGIN" if step.after.get("enabled") is True else "NOLOGIN")
    yield sql.SQL("ALTER ROLE {} {} {}").format(name, login, _inherit(step))


def _inherit(step: Step) -> sql.SQL:
    """Whether a role has by itself what it is in; not touched where a change does not say."""
    said = [(entry or {}).get("inherits") is not False for entry in (step.before, step.after)]
    shut = step.after is not None and step.after.get("enabled") is False and "inherits" not in step.after
    return sql.SQL("") if said[0] == said[1] or shut else sql.SQL("INHERIT" if said[1] else "NOINHERIT")


def _group(step: Step, can_login: bool | None) -> Iterator[Statement]:
    name = sql.Identifier(step.name)
    if step.after is None:
        yield sql.SQL("DROP ROLE {}").format(name)
    elif can_login is None:
        yield sql.SQL("CREATE ROLE {} NOLOGIN").format(name)
    elif can_login:
        raise ChangeRefusedError(f"{step.name} may sign in, so it is no group", "use a group with another name")
    if step.after is not None and (step.after.get("inherits") is False or step.before is not None):
        inherits = sql.SQL("NOINHERIT" if step.after.get("inherits") is False else "INHERIT")
        yield sql.SQL("ALTER ROLE {} {}").format(name, inherits)


def _membership(step: Step, *, newer: bool) -> Iterator[Statement]:
    entry = step.after or step.before or {}
    member = grantee_of(entry.get("member"))
    assert member is not None
    of, who = sql.Identifier(str(entry["of"])), sql.Identifier(member.name)
    if step.after is None:
        yield sql.SQL("REVOKE {} FROM {}").format(of, who)
        return
    if (step.before or {}).get("admin") and not step.after.get("admin"):
        yield sql.SQL("REVOKE ADMIN OPTION FOR {} FROM {}").format(of, who)
        if not newer:
            return
    options = [sql.SQL("ADMIN OPTION" if not newer else "ADMIN TRUE")] if step.after.get("admin") else []
    if newer:
        options.append(sql.SQL("INHERIT TRUE" if step.after.get("inherits") else "INHERIT FALSE"))
    with_ = sql.SQL(" WITH {}").format(sql.SQL(", ").join(options)) if options else sql.SQL("")
    by = str(step.after.get("by") or "")
    granted = sql.SQL(" GRANTED BY {}").format(sql.Identifier(by)) if by else sql.SQL("")
    yield sql.SQL("GRANT {} TO {}{}{}").format(of, who, with_, granted)


def _grant(step: Step) -> Iterator[Statement]:
    """Never with CASCADE: what somebody granted on is a step of its own, made as whoever granted it."""
    entry = step.after or step.before or {}
    to = grantee_of(entry.get("to"))
    assert to is not None
    who = sql.Identifier(to.name) if to.name else sql.SQL("PUBLIC")
    column = sql.SQL(" ({})").format(sql.Identifier(str(entry["column"]))) if entry.get("column") else sql.SQL("")
    what = sql.SQL("{}{} ON {}").format(sql.SQL(_checked(str(entry["privilege"]))), column, place(entry))
    by = str(entry.get("by") or "")
    if by:
        yield sql.SQL("SET LOCAL ROLE {}").format(sql.Identifier(by))
    if step.after is None:
        yield sql.SQL("REVOKE {} FROM {}").format(what, who)
    elif step.after.get("grantable"):
        yield sql.SQL("GRANT {} TO {} WITH GRANT OPTION").format(what, who)
    elif step.before is not None and step.before.get("grantable"):
        yield sql.SQL("REVOKE GRANT OPTION FOR {} FROM {}").format(what, who)
    else:
        yield sql.SQL("GRANT {} TO {}").format(what, who)
    if by:
        yield sql.SQL("RESET ROLE")


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


_TYPES = re.compile(
    r'^(?:(?:[^\W\d][\w$]*|"[^"]*")(?:[ .](?:[^\W\d][\w$]*|"[^"]*"))*(?:\(\d+(?:,\d+)?\))?(?:\[\])*(?:, |$))*$'
)
"""Argument types as the catalogue writes them: names, after a dot or a space more of them, perhaps an array."""


def _arguments(text: str) -> sql.Composable:
    """Argument types as the catalogue writes them, and nothing else."""
    if not _TYPES.match(text):
        raise ChangeRefusedError(f"the argument types {text!r} are not taken into a statement", "grant it by hand")
    return sql.SQL(text)


def trial(connection: Connection[Any], action: str, kind: str, names: list[str]) -> Statement | None:
    """A statement that the server lets happen just where the action is allowed, and that runs nobody's code; None if
    there is none. Statements on tables are explained, not executed: the server checks the same privileges (EXPLAIN,
    without ANALYZE), and no trigger fires. Views and functions are somebody's code, so they are not tried."""
    if (action, kind) in _PLAIN:
        return sql.SQL(_PLAIN[action, kind]).format(sql.Identifier(names[0]), sql.Identifier(TRIAL))
    if len(names) < 2 or kind not in ("table", "sequence") or not connection.execute(_PLAIN_TABLE, names).fetchone():
        return None
    thing = sql.Identifier(*names)
    if action == "select":
        return sql.SQL("EXPLAIN SELECT * FROM {}").format(thing)
    if action == "delete" and kind == "table":
        return sql.SQL("EXPLAIN DELETE FROM {}").format(thing)
    if action in ("insert", "update") and kind == "table":
        column = _column(connection, names)
        form = (
            "EXPLAIN INSERT INTO {0} ({1}) VALUES (NULL)" if action == "insert" else "EXPLAIN UPDATE {0} SET {1} = NULL"
        )
        return sql.SQL(form).format(thing, sql.Identifier(column)) if column else None
    return None


_PLAIN = {
    ("enter", "schema"): "SELECT FROM {0}.{1}",
    ("make-in", "schema"): "CREATE TABLE {0}.{1} ()",
    ("make-in", "database"): "CREATE SCHEMA {1}",
    ("temporary", "database"): "CREATE TEMPORARY TABLE {1} ()",
}
_PLAIN_TABLE = """
select from pg_catalog.pg_class c join pg_catalog.pg_namespace n on n.oid = c.relnamespace
where n.nspname = %s and c.relname = %s and c.relkind in ('r', 'p', 'S') and not c.relrowsecurity and not c.relhasrules
"""
"""Tables and sequences that no rule, and no policy of row security, turns into somebody's code."""
_COLUMN = """
select a.attname from pg_catalog.pg_attribute a join pg_catalog.pg_class c on c.oid = a.attrelid
join pg_catalog.pg_namespace n on n.oid = c.relnamespace
where n.nspname = %s and c.relname = %s and a.attnum > 0
  and not a.attisdropped and a.attgenerated = '' and a.attidentity <> 'a'
order by a.attnum limit 1
"""


def _column(connection: Connection[Any], names: list[str]) -> str:
    row = connection.execute(_COLUMN, names).fetchone()
    return str(row[0]) if row else ""
