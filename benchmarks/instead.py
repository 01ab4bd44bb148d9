"""What a user would do instead: an evening's SQL in DuckDB, over Parquet files of the same estate.

`python -m benchmarks.instead write ESTATE OTHER FOLDER FACTS` makes the files from an estate of the variant *plain*;
`python -m benchmarks.instead FOLDER QUESTION` answers one question from them in a process of its own: `holders`,
`reach`, `tally`, `difference`, or an expectation (`may`, `anywhere`, `only`, `at-most`, `both`). It knows one habit, no
conditions, and gives no reasons.
"""

from __future__ import annotations

import json
import subprocess
import sys
import time
from pathlib import Path

Columns = dict[str, object]

BRINGS = """
WITH RECURSIVE up(g, b) AS (
    SELECT DISTINCT grp, grp FROM {bind} UNION SELECT nest.inn, up.b FROM nest JOIN up ON nest.outr = up.g)
"""
"""Each group with the bound groups that it brings."""
MAY = """
SELECT DISTINCT usr FROM member WHERE grp IN (
    SELECT g FROM up WHERE b IN (
        SELECT b.grp FROM bind b JOIN ra USING (role) JOIN scope s ON s.tin = b.tin
        WHERE ra.action = '{action}' AND s.tin <= {tin} AND {tin} < s.tout))
"""
CELLS = """
SELECT DISTINCT m.usr, ra.action, pl.tin FROM {bind} b JOIN ra USING (role) JOIN scope s ON s.tin = b.tin
JOIN scope pl ON pl.tin >= s.tin AND pl.tin < s.tout JOIN up ON up.b = b.grp JOIN member m ON m.grp = up.g
WHERE m.usr IN (SELECT usr FROM touched) AND pl.tin IN (SELECT tin FROM region)
"""


def write(estate: Path, other: Path, into: Path, facts: dict[str, str]) -> None:
    """The Parquet files of an estate, and of the bindings of another one; `facts` names what is asked about."""
    import duckdb
    import numpy as np

    from justlane.directories.interface import read_people
    from justlane.files.opening.index import open_index
    from justlane.model.people import PrincipalKind

    into.mkdir()
    index, changed = (open_index(folder, read_people) for folder in (estate, other))
    people, prepared = index.membership.numbered, index.platform("yard")
    places, groups = prepared.coverage.numbered, people.group_numbers
    persons: dict[int, int] = {}

    def bound(platform: object) -> Columns:
        rows = []
        for b in platform.bindings:  # type: ignore[attr-defined]
            name = b.principal.name
            if b.principal.kind is PrincipalKind.USER:  # a person is a group of one
                own = persons.setdefault(people.number(name), len(groups) + len(persons))
            else:
                own = groups[name]
            rows.append((own, b.role, places.number[b.scope]))
        grp, role, tin = zip(*rows, strict=True)
        return {"grp": np.array(grp), "role": np.array(role), "tin": np.array(tin)}

    bind, bind_after = bound(prepared), bound(changed.platform("yard"))
    members = people.columns.members
    usr = np.append(members.items, np.array(list(persons), np.int32))
    grp = np.append(
        np.repeat(np.arange(len(groups)), np.diff(members.start)), np.array(list(persons.values()), np.int64)
    )
    roles = [(role, action) for role in prepared.platform.roles for action in prepared.roles.holdings(role)]
    tables: dict[str, Columns] = {
        "member": {"usr": usr, "grp": grp},
        "nest": {"inn": people.columns.inner, "outr": people.columns.outer},
        "scope": {"tin": np.arange(len(places)), "tout": places.end},
        "ra": {"role": np.array([r for r, _ in roles]), "action": np.array([a for _, a in roles])},
        "bind": bind,
        "bind_after": bind_after,
    }
    connection = duckdb.connect()
    for name, columns in tables.items():
        connection.register("loading", columns)
        connection.execute(f"COPY (SELECT * FROM loading) TO '{into / name}.parquet'")
        connection.unregister("loading")
    numbers = {
        "tin": places.number[facts["place"]],
        "region": places.number[facts["region"]],
        "usr": people.number(facts["user"]),
        "grp": groups[facts["group"]],
    }
    (into / "facts.json").write_text(json.dumps({**facts, **numbers}))


def answer(folder: Path, question: str) -> str:
    """One answer, from the files."""
    import duckdb

    facts = json.loads((folder / "facts.json").read_text())
    connection = duckdb.connect()
    for path in folder.glob("*.parquet"):
        connection.execute(f"CREATE VIEW {path.stem} AS SELECT * FROM read_parquet('{path}')")
    brings, may = BRINGS.format(bind="bind"), MAY.format(**facts)
    other = MAY.format(**{**facts, "action": facts["other"]})
    mine = f"usr = {facts['usr']}"
    of_one = f"""{brings}, cells AS (SELECT DISTINCT pl.tin, ra.action FROM member m JOIN up ON up.g = m.grp
        JOIN bind b ON b.grp = up.b JOIN ra USING (role) JOIN scope s ON s.tin = b.tin
        JOIN scope pl ON pl.tin >= s.tin AND pl.tin < s.tout WHERE m.{mine})"""
    inside = f"(SELECT tout FROM scope WHERE tin = {facts['region']})"
    queries = {
        "holders": f"{brings} {may}",
        "reach": f"{of_one} SELECT * FROM cells",
        "tally": f"""{brings}, cls AS (SELECT k, count(*) AS n FROM (SELECT usr, list(DISTINCT b ORDER BY b) AS k
            FROM member JOIN up ON up.g = member.grp GROUP BY usr) GROUP BY k),
            one AS (SELECT row_number() OVER () AS c, k, n FROM cls), cb AS (SELECT c, n, unnest(k) AS grp FROM one),
            piece AS (SELECT DISTINCT cb.c, cb.n, s.tin, s.tout, ra.action FROM cb JOIN bind USING (grp)
                JOIN ra USING (role) JOIN scope s ON s.tin = bind.tin)
            SELECT sum(p.n * (p.tout - p.tin)) FROM piece p WHERE NOT EXISTS (SELECT 1 FROM piece q
                WHERE q.c = p.c AND q.action = p.action AND q.tin < p.tin AND q.tout >= p.tout)""",
        "difference": f"""{BRINGS.format(bind="(SELECT grp FROM bind UNION SELECT grp FROM bind_after)")},
            changed AS ((SELECT * FROM bind EXCEPT SELECT * FROM bind_after) UNION ALL
                (SELECT * FROM bind_after EXCEPT SELECT * FROM bind)),
            region AS (SELECT DISTINCT pl.tin FROM changed JOIN scope s ON s.tin = changed.tin
                JOIN scope pl ON pl.tin >= s.tin AND pl.tin < s.tout),
            touched AS (SELECT DISTINCT usr FROM member WHERE grp IN (SELECT g FROM up WHERE b IN
                (SELECT grp FROM changed))),
            was AS ({CELLS.format(bind="bind")}), now AS ({CELLS.format(bind="bind_after")})
            SELECT (SELECT count(*) FROM (SELECT * FROM now EXCEPT SELECT * FROM was)),
                (SELECT count(*) FROM (SELECT * FROM was EXCEPT SELECT * FROM now))""",
        "may": f"{brings} SELECT count(*) FROM ({may}) WHERE {mine}",
        "anywhere": f"""{of_one} SELECT count(*) FROM cells
            WHERE action = '{facts["action"]}' AND tin >= {facts["region"]} AND tin < {inside}""",
        "only": f"""{brings}, inside AS (WITH RECURSIVE d(g) AS (SELECT {facts["grp"]} UNION
            SELECT inn FROM nest JOIN d ON outr = g) SELECT usr FROM member WHERE grp IN (SELECT g FROM d))
            SELECT count(*) FROM ({may}) WHERE usr NOT IN (SELECT usr FROM inside)""",
        "at-most": f"{brings} SELECT count(*) FROM ({may})",
        "both": f"{brings} SELECT count(*) FROM ({may}) JOIN ({other}) USING (usr)",
    }
    rows = connection.execute(queries[question]).fetchall()
    return str(rows[0]) if len(rows) == 1 else f"{len(rows)} rows"


def timed(folder: Path, question: str) -> float:
    """Seconds of a process that answers one question."""
    start = time.perf_counter()
    subprocess.run([sys.executable, "-m", "benchmarks.instead", str(folder), question], check=True, capture_output=True)
    return time.perf_counter() - start


if __name__ == "__main__":
    if sys.argv[1] == "write":
        write(Path(sys.argv[2]), Path(sys.argv[3]), Path(sys.argv[4]), json.loads(sys.argv[5]))
    else:
        print(answer(Path(sys.argv[1]), sys.argv[2]))
