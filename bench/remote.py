"""A site on another machine, over a slow line: `python -m bench.remote [FILES] [MS] [MBIT]`.

Clones within the host, compares with 100 rows and 100 files changed, merges 20 items. Prints seconds, trips and bytes
over the wire, the latter beside the size of the site. The line is a program that delays what ssh would carry (50 ms
there and back, 20 megabits a second if left out).
"""

from __future__ import annotations

import os
import shlex
import sqlite3
import sys
import tempfile
import time
from collections.abc import Callable
from pathlib import Path
from typing import Any

from bench.files import make
from nostos.core.anchor.open_voyage import opened
from nostos.core.apply.merge import merge
from nostos.core.clone.clone import clone
from nostos.core.hosts.connection import close_all, reach, traffic
from nostos.core.plan.prepared import compare_voyage, prepare
from nostos.core.plan.selection import Choice
from nostos.core.voyages.home import Home

_TABLES = ("pages", "notes", "orders", "comments", "settings", "members", "terms", "links")


def rows(database: Path, sql: str) -> None:
    connection = sqlite3.connect(database)
    with connection:
        connection.executescript(sql)
    connection.close()


def main(files: int, delay: float, speed: float) -> None:
    with tempfile.TemporaryDirectory() as made:
        folder = Path(made)
        make(folder / "live", files)
        counting = "WITH RECURSIVE n(i) AS (SELECT 1 UNION ALL SELECT i + 1 FROM n WHERE i < 5000)"
        rows(folder / "live/data/site.db", "PRAGMA journal_mode = wal;" + "".join(
            f"CREATE TABLE {t} (id INTEGER PRIMARY KEY, name TEXT UNIQUE, body TEXT); INSERT INTO {t} {counting} "
            f"SELECT i, '{t}-' || i, hex(randomblob(60)) FROM n;" for t in _TABLES))
        size = sum(p.stat().st_size for p in (folder / "live").rglob("*") if p.is_file())
        os.environ["NOSTOS_SSH"] = shlex.join([sys.executable, str(Path(__file__).parent / "slow_line.py")])
        os.environ["NOSTOS_LINE"] = f"{delay / 2},{speed}"
        home = Home(folder / "home")
        print(f"{files:,} files and {5000 * len(_TABLES):,} rows, {size / 1e6:.0f} MB; {delay:.0f} ms, "
              f"{speed:.0f} Mbit", flush=True)

        def told(what: str, work: Callable[[], Any]) -> Any:
            close_all()
            reach("far")
            before, start = traffic()["far"], time.monotonic()
            found = work()
            took, now = time.monotonic() - start, traffic()["far"]
            there = now.sent + now.received - before.sent - before.received
            print(f"{what:8} {took:6.1f} s  {now.trips - before.trips:5} trips  {there / 1e6:7.2f} MB, "
                  f"{100 * there / size:5.2f} % of the site", flush=True)
            return found

        told("clone", lambda: clone(home, f"far:{folder}/live", "bench", f"far:{folder}/staging",
                                    "https://staging.example"))
        rows(folder / "staging/data/site.db", "UPDATE pages SET body = 'changed' WHERE id % 50 = 0;")
        for number in range(100):
            next((folder / "staging/files" / str(number)).iterdir()).write_bytes(b"changed")

        def compare() -> None:
            with opened(home, home.read("bench")) as crew:
                compare_voyage(crew)

        def bring() -> None:
            with opened(home, home.read("bench")) as crew:
                merge(home, crew, prepare(crew, Choice(tuple(f"pages/{n}" for n in range(50, 550, 50))
                                                       + tuple(f"file/files/{n}/*" for n in range(10)))))

        told("compare", compare)
        told("merge", bring)


if __name__ == "__main__":
    said = [float(a) for a in sys.argv[1:]]
    main(int(said[0]) if said else 20_000, *(said[1:] or (50, 20)))
