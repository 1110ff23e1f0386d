"""Merging 20 items on a small site and on one ten times larger, on MariaDB: `python -m bench.merge [ROWS]`.

Prints how long a merge took once it was prepared, how long with the comparison before it (the middle of some turns),
how long live's rows were locked at most, and the memory that each took.
"""

from __future__ import annotations

import json
import os
import resource
import statistics
import subprocess
import sys
import tempfile
import threading
import time
from pathlib import Path

import pymysql
from tests.real.servers import MariaDB, mariadb

from bench.database import make, site, timed
from nostos.core.anchor.open_voyage import opened
from nostos.core.apply.merge import merge
from nostos.core.clone.clone import clone
from nostos.core.plan.prepared import prepare

_TURNS = 7


def one(server: MariaDB, rows: int) -> dict[str, float]:
    """Clone a site of so many rows, change 20 pages in staging, merge."""
    live = make(server, rows)
    with tempfile.TemporaryDirectory() as made:
        folder = Path(made)
        home = site(server, live, folder)
        clone(home, folder / "live", "bench", folder / "staging", "https://staging.example")
        copy = home.read("bench").place
        alone, whole, locked = [], [], []
        stop = threading.Event()
        writer = threading.Thread(target=_write, args=(server, live, stop))
        writer.start()
        with opened(home, home.read("bench")) as crew:
            for turn in range(_TURNS):
                server.run(f"UPDATE kr_pages SET title = 'changed {turn}' WHERE id <= 10", database=copy)
                server.run("INSERT INTO kr_pages (title, body, n) SELECT 'new', 'x', seq FROM seq_1_to_10",
                           database=copy)
                start = time.monotonic()
                prepared = prepare(crew)
                alone.append(timed(lambda prepared=prepared: locked.append(merge(home, crew, prepared).locked)))
                whole.append(time.monotonic() - start)
        stop.set()
        writer.join()
        memory = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1024
    return {"alone": statistics.median(alone), "whole": statistics.median(whole), "locked": max(locked),
            "memory": memory}


def _write(server: MariaDB, live: str, stop: threading.Event) -> None:
    """A visitor who writes all the while to rows that the merge does not take."""
    connection = pymysql.connect(unix_socket=server.socket, user="root", database=live, autocommit=True)
    with connection.cursor() as cursor:
        while not stop.is_set():
            cursor.execute("UPDATE kr_pages SET n = n + 1 WHERE id = 77")
            time.sleep(0.01)
    connection.close()


def main(rows: int) -> None:
    found = []
    for size in (rows // 10, rows):  # a process each, so that memory is each one's own
        done = subprocess.run([sys.executable, "-m", "bench.merge"], check=True, capture_output=True,
                              env={**os.environ, "BENCH_ROWS": str(size)})
        found.append(json.loads(done.stdout))
    small, large = found
    print(f"20 items on {rows // 10:,} and on {rows:,} rows")
    for name, said in (("alone", "merge"), ("whole", "with the comparison")):
        print(f"{said}: {small[name]:.3f} s and {large[name]:.3f} s, ratio {large[name] / small[name]:.2f}"
              + (" (bar: 1.3)" if name == "alone" else ""))
    print(f"longest time that rows of live were locked: {large['locked'] * 1000:.0f} ms (bar: 100)")
    print(f"memory: {small['memory']:.0f} MB and {large['memory']:.0f} MB, ratio "
          f"{large['memory'] / small['memory']:.2f} (bar: 1.2)")


if __name__ == "__main__":
    if "BENCH_ROWS" in os.environ:
        print(json.dumps(one(mariadb(), int(os.environ["BENCH_ROWS"]))))
    else:
        main(int(sys.argv[1]) if len(sys.argv) > 1 else 600_000)
