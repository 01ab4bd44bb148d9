"""People at full size: `python -m benchmarks.people [ldif|ldap|forms] [USERS GROUPS MEMBERSHIPS]`.

*ldif*: a pull from an LDIF file, a snapshot opened, a cold question beside `import click`. *forms*: the same, then that
snapshot in SQLite beside Parquet. *ldap*: a pull from a local slapd beside what the system's own client takes for the
same entries. Without a word, all of it, with 1,000,000 users, 50,000 groups and 5,000,000 memberships; a fifth of that
for *ldap*.
"""

from __future__ import annotations

import csv
import os
import random
import shutil
import sqlite3
import subprocess
import sys
import tempfile
import time
from array import array
from collections.abc import Iterable, Iterator
from pathlib import Path

from benchmarks.cold_start import CLICK, LANE, timed
from justlane.files.people import snapshots

PUMPHALL = Path(__file__).parent.parent / "src" / "justlane" / "demo" / "pumphall"
SUFFIX = "dc=saltmarsh,dc=example"
PEOPLE = (1_000_000, 50_000, 5_000_000)


def entries(users: int, groups: int, memberships: int) -> Iterator[str]:
    """Users with an entryUUID, then groups, one in ten of which holds other groups too."""
    dice = random.Random(1)
    for n in range(users):
        yield (
            f"dn: uid=u{n},ou=people,{SUFFIX}\nobjectClass: inetOrgPerson\nuid: u{n}\ncn: User {n}\nsn: {n}\n"
            f"displayName: User Number {n}\nmail: u{n}@saltmarsh.example\nentryUUID: {_uuid(n)}\n\n"
        )
    for n in range(groups):
        held = max(1, int(memberships / groups * dice.choice((0.5, 1, 1.5))))
        members = [f"uid=u{dice.randrange(users)},ou=people" for _ in range(held)]
        if n % 10 == 0 and n:
            members += [f"cn=g{dice.randrange(n)},ou=groups" for _ in range(3)]
        listed = "".join(f"member: {m},{SUFFIX}\n" for m in dict.fromkeys(members))
        yield (
            f"dn: cn=g{n},ou=groups,{SUFFIX}\nobjectClass: groupOfNames\ncn: g{n}\ndescription: Group {n}\n"
            f"entryUUID: {_uuid(users + n)}\n{listed}\n"
        )


def _uuid(number: int) -> str:
    return f"{number:08x}-0000-4000-8000-{number:012x}"


def estate(folder: Path, directory: str) -> None:
    """The small estate, with other people: group g0 is given what the staff has."""
    shutil.copytree(PUMPHALL, folder, dirs_exist_ok=True)
    text = (folder / "estate.yaml").read_text()
    (folder / "estate.yaml").write_text(
        text.replace("    ldif: people.ldif\n", directory).replace("  - expectations.yaml\n", "")
    )
    text = (folder / "pumphall.yaml").read_text()
    (folder / "pumphall.yaml").write_text(
        text.replace("group staff", "group g0").replace("group mechanics", "group g1")
    )


def environment(folder: Path) -> dict[str, str]:
    """That of a run on an estate, with a cache beside it."""
    return {**os.environ, "JUSTLANE_ESTATE": str(folder), "XDG_CACHE_HOME": str(folder.parent / "cache")}


def run(folder: Path, *words: str, ends: int = 1, **extra: str) -> tuple[float, int]:
    """Run the program, which ends with 0 or `ends`; seconds, and its peak memory in MB."""
    start = time.perf_counter()
    env, silent = {**environment(folder), **extra}, subprocess.DEVNULL if ends == 2 else None
    process = subprocess.Popen([*LANE, *words], env=env, stdout=subprocess.PIPE, stderr=silent, text=True)
    assert process.stdout is not None
    said = process.stdout.read()
    _, status, used = os.wait4(process.pid, 0)
    assert os.waitstatus_to_exitcode(status) in (0, ends), said
    return time.perf_counter() - start, used.ru_maxrss >> 10


def line(what: str, value: str) -> None:
    print(f"{what:<60}{value:>20}", flush=True)


def from_ldif(top: Path, sizes: tuple[int, int, int]) -> None:
    folder = top / "ldif"
    estate(folder, "    ldif: people.ldif\n")
    with (folder / "people.ldif").open("w") as file:
        file.writelines(entries(*sizes))
    line(f"LDIF of {sizes[0]:,} users, {sizes[1]:,} groups", f"{(folder / 'people.ldif').stat().st_size >> 20:,} MB")
    seconds, peak = run(folder, "people", "pull")
    line("justlane people pull: read, joined, on the disk", f"{seconds:.1f} s")
    line("its peak memory", f"{peak:,} MB")
    name = snapshots.newest(folder)
    line("the snapshot", f"{(folder / 'snapshots' / f'{name}.sqlite').stat().st_size >> 20:,} MB")
    start = time.perf_counter()
    store = snapshots.open_snapshot(folder, name)
    group = store.group("g77")
    line("snapshot opened, one user and one group read", f"{(time.perf_counter() - start) * 1000:.1f} ms")
    assert group is not None
    assert store.user("u77") is not None
    seconds, peak = run(folder, "people", "find", "Number 7777")
    line("justlane people find", f"{seconds:.1f} s")
    seconds, peak = run(folder, "people", "groups", "g77")
    line("justlane people groups", f"{seconds:.1f} s, {peak:,} MB")
    login = next(m.member.name for m in (store.group("g0") or group).members)
    run(folder, "ask", login, "see-pump", "pumphall/east/pump-1")
    question = [*LANE, "ask", login, "see-pump", "pumphall/east/pump-1"]
    print(f"{'command':<44}{'median ms':>10}{'× import click':>16}")
    timed({"python -c 'import click'": CLICK, "justlane ask": question}, environment(folder))
    with (folder / "people.ldif").open("a") as file:
        file.write(f"dn: uid=new,ou=people,{SUFFIX}\nobjectClass: inetOrgPerson\nuid: new\ncn: New\nsn: N\n")
    run(folder, "people", "pull")
    start = time.perf_counter()
    subprocess.run([*LANE, "people", "changes"], env=environment(folder), stdout=subprocess.DEVNULL, check=False)
    line("justlane people changes, one joiner", f"{time.perf_counter() - start:.1f} s")


def from_ldap(top: Path, sizes: tuple[int, int, int]) -> None:
    from tests.directory_server import SECRET, Authority, DirectoryServer

    place, folder = top / "server", top / "ldap"
    place.mkdir()
    Authority(place)
    server = DirectoryServer(place, "".join(entries(*sizes)))
    try:
        for encryption, url in (
            ("none", f"ldap://localhost:{server.plain}"),
            ("tls", f"ldaps://localhost:{server.safe}"),
        ):
            shutil.rmtree(folder, ignore_errors=True)
            settings = {
                "url": url,
                "encryption": encryption,
                "trust": "ca.pem",
                "sign in as": f'"cn=reader,{SUFFIX}"',
                "password from": "environment DIRECTORY_PASSWORD",
                "people": f'{{schema: inetOrgPerson, under: "ou=people,{SUFFIX}"}}',
                "groups": f'{{schema: groupOfNames, under: "ou=groups,{SUFFIX}"}}',
                "page size": "1000",
            }
            estate(folder, "    ldap:\n" + "".join(f"      {key}: {value}\n" for key, value in settings.items()))
            (folder / "ca.pem").write_bytes((place / "ca.pem").read_bytes())
            theirs = _client(server.plain if encryption == "none" else server.safe, encryption, place)
            host = url.partition("//")[2]
            authority = ["--authority", str(folder / "ca.pem")] if encryption == "tls" else []
            allowed = ["--secret", "environment DIRECTORY_PASSWORD", "--to", host, *authority]
            own = str(top / "config")
            run(folder, "trust", "add", *allowed, XDG_CONFIG_HOME=own)
            ours, peak = run(folder, "people", "pull", DIRECTORY_PASSWORD=SECRET, XDG_CONFIG_HOME=own)
            line(f"LDAP, encryption {encryption}, {sizes[0]:,} users: ldapsearch", f"{theirs:.1f} s")
            line("justlane people pull, the snapshot on the disk included", f"{ours:.1f} s, {peak:,} MB")
            line("as a multiple of ldapsearch", f"{ours / theirs:.1f}")
    finally:
        server.stop()


def _client(port: int, encryption: str, place: Path) -> float:
    """Seconds that the system's own client takes for the same entries and attributes."""
    from tests.directory_server import SECRET

    url = f"{'ldap' if encryption == 'none' else 'ldaps'}://127.0.0.1:{port}"
    account = ["-x", "-D", f"cn=reader,{SUFFIX}", "-w", SECRET, "-H", url, "-LLL", "-E", "pr=1000/noprompt"]
    start = time.perf_counter()
    for unit, where in (("people", "(objectClass=inetOrgPerson)"), ("groups", "(objectClass=groupOfNames)")):
        wanted = ["uid", "displayName", "cn", "entryUUID", "pwdAccountLockedTime", "description", "member"]
        command = ["ldapsearch", *account, "-b", f"ou={unit},{SUFFIX}", where, *wanted]
        trusting = {**os.environ, "LDAPTLS_CACERT": str(place / "ca.pem")}
        subprocess.run(command, env=trusting, stdout=subprocess.DEVNULL, check=True)
    return time.perf_counter() - start


IN_PARQUET = """
import sys, duckdb
at = sys.argv[1]
con = duckdb.connect()
(user,) = con.execute(f"SELECT id FROM '{at}/users.parquet' WHERE login = 'u77'").fetchone()
query = f"FROM '{at}/held.parquet' h JOIN '{at}/groups.parquet' g ON g.id = h.holder WHERE h.member = {user}"
print(len(con.execute("SELECT g.name " + query).fetchall()))
"""
IN_SQLITE = """
import sys
from pathlib import Path
from justlane.engine.facts.membership import user
from justlane.files.people.snapshots import newest, open_snapshot
folder = Path(sys.argv[1])
print(len(open_snapshot(folder, newest(folder)).groups_with(user("u77"))))
"""


def forms(top: Path) -> None:
    """The newest snapshot beside the same rows in Parquet, sorted by what is looked up, written and read by DuckDB."""
    import duckdb

    folder, other = top / "ldif", top / "parquet"
    other.mkdir()
    path = folder / "snapshots" / f"{snapshots.newest(folder)}.sqlite"
    kept = sqlite3.connect(path)
    _table(other / "users.csv", kept.execute("SELECT id, login, name, enabled, stable, line FROM users"))
    _table(other / "groups.csv", kept.execute("SELECT id, name, purpose, stable, line FROM groups"))
    _table(other / "held.csv", _held(kept))
    start = time.perf_counter()
    connection = duckdb.connect()
    for name, columns, key in (
        ("users", "id, login, name, enabled, stable, line", "login"),
        ("groups", "id, name, purpose, stable, line", "id"),
        ("held", "member, holder, line", "member"),
    ):
        listed = ", ".join(f"'{column.strip()}'" for column in columns.split(","))
        source = f"read_csv('{other}/{name}.csv', header=false, names=[{listed}])"
        connection.execute(f"COPY (SELECT * FROM {source} ORDER BY {key}) TO '{other}/{name}.parquet'")
    line("Parquet written (from CSV)", f"{time.perf_counter() - start:.1f} s")
    line("Parquet", f"{sum(p.stat().st_size for p in other.glob('*.parquet')) >> 20:,} MB")
    line("SQLite", f"{path.stat().st_size >> 20:,} MB")
    print(f"{'whose groups are these, in a new process':<44}{'median ms':>10}{'× import click':>16}")
    commands = {
        "python -c 'import click'": CLICK,
        "the snapshot in SQLite": [sys.executable, "-c", IN_SQLITE, str(folder)],
        "in Parquet, by DuckDB": [sys.executable, "-c", IN_PARQUET, str(other)],
    }
    timed(commands, dict(os.environ))


def _held(kept: sqlite3.Connection) -> Iterator[tuple[int, int, int]]:
    for member, body in kept.execute("SELECT id, held FROM users"):
        numbers = array("I", body)
        yield from ((member, holder, at) for holder, at in zip(numbers[::2], numbers[1::2], strict=True))


def _table(path: Path, rows: Iterable[tuple[object, ...]]) -> None:
    with path.open("w", newline="") as file:
        csv.writer(file).writerows(rows)


def main() -> None:
    words = sys.argv[1:]
    what = words[0] if words and words[0].isalpha() else ""
    sizes = tuple(int(word) for word in words if word.isdigit()) or PEOPLE
    with tempfile.TemporaryDirectory() as name:
        top = Path(name)
        if what in ("", "ldif", "forms"):
            from_ldif(top, sizes)  # type: ignore[arg-type]
        if what in ("", "forms"):
            forms(top)
        if what in ("", "ldap"):
            from_ldap(top, tuple(size // 5 for size in sizes))  # type: ignore[arg-type]


if __name__ == "__main__":
    main()
