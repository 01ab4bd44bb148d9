"""A private PostgreSQL cluster on loopback, with a small database of a weather service in it."""

from __future__ import annotations

import os
import pwd
import shutil
import subprocess
import tempfile
import unittest
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Any, NamedTuple

from tests.support import free_port

PASSWORD = "the-keeper-of-the-tests"
TABLES = """
create database saltmarsh;
\\connect saltmarsh
create schema buoys;
create schema models;
create table buoys.readings (id int generated always as identity, buoy text not null, metres numeric);
create table buoys.moorings (buoy text primary key, fathoms int check (fathoms > 0));
create sequence buoys.trips;
create view models.levels as select buoy, avg(metres) metres from buoys.readings group by buoy;
create function models.surge(metres numeric, hours int) returns numeric language sql as 'select metres * hours';
create function models.forget() returns void language sql as 'delete from buoys.moorings';
insert into buoys.moorings values ('nb-07', 12);
"""


def binaries() -> Path | None:
    """Where the server's programs are; None if it is not installed."""
    found = sorted(Path("/usr/lib/postgresql").glob("*/bin/initdb"))
    if found:
        return found[-1].parent
    other = shutil.which("initdb")
    return Path(other).parent if other else None


def require_postgresql() -> Path:
    """Skip the test where there is no server; where skipping is a failure, it fails."""
    found = binaries()
    if found is None:
        raise unittest.SkipTest("PostgreSQL is not installed: apt-get install postgresql")
    return found


class Running(NamedTuple):
    port: int

    def sql(self, text: str, database: str = "saltmarsh", user: str = "keeper", password: str = PASSWORD) -> list[Any]:
        import psycopg

        with psycopg.connect(host="127.0.0.1", port=self.port, dbname=database, user=user, password=password, autocommit=True) as connection:
            done = connection.execute(text)
            return done.fetchall() if done.description else []


@contextmanager
def running(tables: str = TABLES) -> Iterator[Running]:
    """The cluster, as another user than root, who may not start one."""
    programs = require_postgresql()
    port = free_port()
    with tempfile.TemporaryDirectory() as folder:
        top = Path(folder)
        top.chmod(0o755)
        data = top / "data"
        data.mkdir(mode=0o700)
        secret = top / "password"
        secret.write_text(PASSWORD)
        secret.chmod(0o644)
        account = pwd.getpwnam("postgres").pw_uid if os.geteuid() == 0 else None
        if account is not None:
            os.chown(data, account, -1)
            os.chown(top, account, -1)

        def run(*words: str) -> None:
            own: dict[str, Any] = {"user": account, "group": pwd.getpwuid(account).pw_gid} if account is not None else {}
            with (top / "said").open("ab") as said:
                subprocess.run([str(programs / words[0]), *words[1:]], check=True, stdout=said, stderr=said, cwd="/", timeout=120, **own)

        run("initdb", "-D", str(data), "-U", "keeper", "-A", "scram-sha-256", f"--pwfile={secret}", "-E", "UTF8", "--no-sync", "--locale=C.UTF-8")
        options = f"-p {port} -h 127.0.0.1 -k {data} -c fsync=off -c max_connections=300"
        run("pg_ctl", "-w", "-D", str(data), "-l", str(top / "log"), "-o", options, "start")
        try:
            script = top / "tables.sql"
            script.write_text(tables)
            environment = {**os.environ, "PGPASSWORD": PASSWORD}
            words = [
                shutil.which("psql") or str(programs / "psql"),
                "-q",
                "-v",
                "ON_ERROR_STOP=1",
                "-h",
                "127.0.0.1",
                "-p",
                str(port),
                "-U",
                "keeper",
                "-d",
                "postgres",
                "-f",
                str(script),
            ]
            subprocess.run(words, check=True, env=environment, capture_output=True, timeout=60)
            yield Running(port)
        finally:
            run("pg_ctl", "-D", str(data), "-m", "immediate", "-w", "stop")
