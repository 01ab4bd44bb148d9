"""The same count in SQL: the best query we could write, with the same formula, for DuckDB and SQLite.

Both compute the groups' closure, the bindings that reach a user (or a class of users with the same groups), what each
touched scope adds to those around it, and weigh that with the number of scopes of each kind below it.
"""

from __future__ import annotations

import sqlite3
import time

import numpy as np

from benchmarks.estates import ACTIONS, KINDS
from justlane.engine.compiled.flat import Flat
from justlane.engine.compiled.places import ScopeIntervals

BITS = 48
"""Actions to a word: signed 64-bit integers hold them safely."""
PARTS = ACTIONS // BITS


def tables(flat: Flat) -> dict[str, dict[str, np.ndarray]]:
    """The estate as plain tables."""
    places = ScopeIntervals(flat)
    scopes = np.arange(places.count, dtype=np.int32)
    weights = {f"c{k}": places.inside(k, scopes, places.end) for k in range(KINDS)}
    return {
        "member": {"usr": flat.member_user, "grp": flat.member_group},
        "nest": {"inn": flat.nested_inner, "outr": flat.nested_outer},
        "bind": {"grp": flat.bound_group, "role": flat.bound_role, "tin": flat.bound_scope},
        "scope": {"tin": scopes, "tout": places.end, **weights},
        "role": {"role": np.arange(len(flat.role_masks)), **_parts(flat.role_masks)},
        "kind": {"kind": np.arange(KINDS), **_parts(flat.kind_masks)},
    }


def _parts(masks: np.ndarray) -> dict[str, np.ndarray]:
    bits = np.unpackbits(masks.view(np.uint8), axis=1, bitorder="little")[:, :ACTIONS].astype(np.int64)
    weights = 1 << np.arange(BITS, dtype=np.int64)
    return {f"w{p}": bits[:, p * BITS : (p + 1) * BITS] @ weights for p in range(PARTS)}


def query(flat: Flat, *, classes: bool) -> str:
    """The whole count, with users taken together by the groups that matter or one by one."""
    words = range(PARTS)
    kinds = _parts(flat.kind_masks)
    counted = [" + ".join(f"bit_count(w{p} & {int(kinds[f'w{p}'][k])})" for p in words) for k in range(KINDS)]
    bits = " + ".join(f"c{k} * ({some})" for k, some in enumerate(counted))
    who = (
        """ug AS (SELECT DISTINCT usr, grp FROM member WHERE grp IN (SELECT g FROM up)),
        sets AS (SELECT list(grp ORDER BY grp) AS k FROM ug GROUP BY usr),
        counted AS (SELECT k, count(*) AS n FROM sets GROUP BY k),
        cls AS MATERIALIZED (SELECT row_number() OVER () AS c, k, n FROM counted),
        cg AS (SELECT c, unnest(k) AS grp FROM cls),
        people AS (SELECT c, n FROM cls)"""
        if classes
        else """cg AS (SELECT DISTINCT usr AS c, grp FROM member WHERE grp IN (SELECT g FROM up)),
        people AS (SELECT DISTINCT c, 1 AS n FROM cg)"""
    )
    own = ", ".join(f"bit_or(r.w{p}) AS w{p}" for p in words)
    added = ", ".join(f"e.w{p} & ~coalesce(bit_or(a.w{p}), 0) AS w{p}" for p in words)
    e_words = ", ".join(f"e.w{p}" for p in words)
    return f"""
    WITH RECURSIVE up(g, b) AS (
        SELECT DISTINCT grp, grp FROM bind UNION SELECT nest.inn, up.b FROM nest JOIN up ON nest.outr = up.g),
    {who},
    ge AS (SELECT DISTINCT up.g, bind.tin, bind.role FROM up JOIN bind ON bind.grp = up.b),
    e AS MATERIALIZED (SELECT cg.c, s.tin, s.tout, {own} FROM cg JOIN ge ON ge.g = cg.grp
        JOIN role r ON r.role = ge.role JOIN scope s ON s.tin = ge.tin GROUP BY cg.c, s.tin, s.tout),
    d AS (SELECT e.c, e.tin, {added} FROM e LEFT JOIN e a
        ON a.c = e.c AND a.tin < e.tin AND a.tout >= e.tout GROUP BY e.c, e.tin, {e_words})
    SELECT sum(n * ({bits})) FROM d JOIN scope USING (tin) JOIN people USING (c)
    """


def duckdb_count(flat: Flat, *, classes: bool) -> tuple[int, float]:
    """The total and the seconds that the query took, the tables loaded beforehand."""
    import duckdb

    connection = duckdb.connect()
    for name, columns in tables(flat).items():
        connection.register("loading", {k: np.ascontiguousarray(v) for k, v in columns.items()})
        connection.execute(f"CREATE TABLE {name} AS SELECT * FROM loading")
        connection.unregister("loading")
    start = time.perf_counter()
    row = connection.execute(query(flat, classes=classes)).fetchone()
    assert row is not None
    return int(row[0]), time.perf_counter() - start


class _BitOr:
    """SQLite has no such aggregate."""

    def __init__(self) -> None:
        self.value = 0

    def step(self, value: int | None) -> None:
        self.value |= value or 0

    def finalize(self) -> int:
        return self.value


def sqlite_count(flat: Flat) -> tuple[int, float]:
    """The same in SQLite, users one by one, with the two functions that it lacks written in Python."""
    connection = sqlite3.connect(":memory:")
    connection.create_function("bit_count", 1, int.bit_count, deterministic=True)
    connection.create_aggregate("bit_or", 1, _BitOr)
    for name, columns in tables(flat).items():
        connection.execute(f"CREATE TABLE {name} ({', '.join(f'{c} INTEGER' for c in columns)})")
        marks = ", ".join("?" * len(columns))
        rows = zip(*(c.tolist() for c in columns.values()), strict=True)
        connection.executemany(f"INSERT INTO {name} VALUES ({marks})", rows)
    for index in ("member(grp, usr)", "nest(outr)", "bind(grp)", "scope(tin)", "role(role)"):
        connection.execute(f"CREATE INDEX i_{index.partition('(')[0]} ON {index}")
    start = time.perf_counter()
    row = connection.execute(query(flat, classes=False)).fetchone()
    return int(row[0]), time.perf_counter() - start
