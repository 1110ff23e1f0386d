"""Clone and compare of a big database on MariaDB, beside the server's own tools: `python -m bench.database [ROWS]`.

Starts a private server, makes a site of so many rows (1.5 million if left out: about 450 MB), and prints ratios:
clone with its anchor against `mariadb-dump | mariadb`; compare with 100 rows changed against `CHECKSUM TABLE` of both.
"""

from __future__ import annotations

import resource
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import Any
from unittest import mock

from tests.real.servers import MariaDB, mariadb

from nostos.core.anchor.open_voyage import opened
from nostos.core.clone.clone import clone
from nostos.core.engines.mysql.connection import MysqlDatabase
from nostos.core.plan.prepared import compare_voyage
from nostos.core.voyages.home import Home


def make(server: MariaDB, rows: int) -> str:
    """A database with narrow rows and, one in ten, wide ones."""
    name = server.new_database()
    server.run("CREATE TABLE kr_pages (id bigint unsigned AUTO_INCREMENT PRIMARY KEY, title text, body longtext, "
               "n int)", database=name)
    server.run("CREATE TABLE kr_fields (id bigint unsigned AUTO_INCREMENT PRIMARY KEY, page bigint unsigned, "
               "name varchar(50), value longtext, KEY (page))", database=name)
    server.run("INSERT INTO kr_pages (title, body, n) SELECT CONCAT('title ', seq), "
               "CONCAT('see https://ridge.example/', seq, REPEAT(MD5(seq), 40)), seq "
               f"FROM seq_1_to_{rows // 10}", database=name)
    server.run("INSERT INTO kr_fields (page, name, value) SELECT seq DIV 9, CONCAT('k', seq MOD 9), "
               f"REPEAT(MD5(seq), 4) FROM seq_1_to_{rows - rows // 10}", database=name)
    return name


_fetched = 0


def _counted(method: Callable[..., Iterator[Any]]) -> Callable[..., Iterator[Any]]:
    def counted(*args: Any) -> Iterator[Any]:
        global _fetched
        for row in method(*args):
            _fetched += 1
            yield row

    return counted


def site(server: MariaDB, live: str, folder: Path) -> Home:
    """The folder of a site whose database is `live`, and a home for its voyages."""
    (folder / "live").mkdir()
    (folder / "live/nostos.toml").write_text(
        '[site]\nname = "big"\nurl = "https://ridge.example"\nprefix = "kr_"\n'
        f'database = "mysql://root@/{live}?unix_socket={server.socket}"\n')
    return Home(folder / "home")


def timed(work: object) -> float:
    start = time.monotonic()
    work()  # type: ignore[operator]
    return time.monotonic() - start


def main(rows: int) -> None:
    server = mariadb()
    live = make(server, rows)
    server.run("CREATE DATABASE plain")
    flags = f"--no-defaults -uroot -S {server.socket}"
    plain = timed(lambda: subprocess.run(
        f"mariadb-dump {flags} --single-transaction {live} | mariadb {flags} plain", shell=True, check=True))
    with tempfile.TemporaryDirectory() as made:
        folder = Path(made)
        home = site(server, live, folder)
        ours = timed(lambda: clone(home, folder / "live", "bench", folder / "staging", "https://staging.example"))
        copy = home.read("bench").place
        sums = timed(lambda: [server.run(f"CHECKSUM TABLE {d}.kr_pages, {d}.kr_fields") for d in (live, copy)])
        server.run("UPDATE kr_fields SET value = 'changed' WHERE id MOD %s = 0", rows // 100, database=copy)
        counted = mock.patch.object(MysqlDatabase, "fetch_many", _counted(MysqlDatabase.fetch_many))
        with opened(home, home.read("bench")) as crew, counted:
            compared = timed(lambda: compare_voyage(crew))
    memory = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss // 1024
    print(f"{rows:,} rows, peak memory {memory} MB (bar: 250)")
    print(f"clone:   {ours:7.2f} s, plain {plain:7.2f} s, ratio {ours / plain:5.2f} (bar: 0.6)")
    print(f"compare: {compared:7.2f} s, plain {sums:7.2f} s, ratio {compared / sums:5.2f} (bar: 1.8), "
          f"{_fetched / 100:.1f} rows fetched for each that changed (bar: 20)")


if __name__ == "__main__":
    main(int(sys.argv[1]) if len(sys.argv) > 1 else 1_500_000)
