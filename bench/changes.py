"""Work by the number of changes: `python -m bench.changes [SIZE...] [--on sqlite,mariadb,system]`.

A site of 20,000 pages with two fields each; staging edits some and adds others with four fields each, and files; live
gains orders. Prints how long compare, merge, undo and refresh took at each size, how that grows, beside one INSERT
after another, how many statements it took, and the memory.
"""

from __future__ import annotations

import argparse
import json
import math
import os
import resource
import sqlite3
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Any
from unittest import mock

from tests.real.servers import PhpSite, free_port, mariadb

from nostos.core.anchor.names import Side
from nostos.core.anchor.open_voyage import opened
from nostos.core.apply.merge import merge
from nostos.core.clone.clone import clone
from nostos.core.database.mysql.session import MysqlSession
from nostos.core.database.sqlite.session import SqliteSession
from nostos.core.plan.prepared import compare_voyage, prepare
from nostos.core.plan.selection import Choice
from nostos.core.takeback.undo import prepare_undo, to_take_back
from nostos.core.voyages.home import Home

_PAGES = 20_000
_ENGINES = ("sqlite", "mariadb", "system")
Run = Callable[[str], Any]


class Site:
    """A site of one kind: `live` and `staging` run a statement on either, with `{n}` pages to be made or changed."""

    def __init__(self, kind: str, folder: Path) -> None:
        self.kind, self.folder, self.home = kind, folder, Home(folder / "home")
        if kind != "system":
            (folder / "live").mkdir()
        self.live: Run
        self.url = f"http://127.0.0.1:{free_port()}"
        getattr(self, kind)()

    def clone(self) -> None:
        clone(self.home, self.folder / "live", "bench", self.folder / "staging", self.url)
        place = self.home.read("bench").place
        self.staging = self._on(place)

    def _on(self, place: str) -> Run:
        if self.kind == "sqlite":
            connection = sqlite3.connect(place, isolation_level=None)
            return connection.executescript
        return lambda sql: [mariadb().run(one, database=place) for one in sql.split(";") if one.strip()]

    def sqlite(self) -> None:
        self.live = self._on(str(self.folder / "live/made.db"))
        self.live(_TABLES.format(p="", auto="AUTOINCREMENT", key="INTEGER PRIMARY KEY", text="TEXT"))
        self._site("sqlite:///made.db", "")

    def mariadb(self) -> None:
        name = mariadb().new_database()
        self.live = self._on(name)
        self.live(_TABLES.format(p="kr_", auto="AUTO_INCREMENT", key="int PRIMARY KEY", text="varchar(190)"))
        self._site(f"mysql://root@/{name}?unix_socket={mariadb().socket}", "kr_")

    def _site(self, database: str, prefix: str) -> None:
        (self.folder / "live/nostos.toml").write_text(
            f'[site]\nname = "big"\nurl = "https://ridge.example"\nprefix = "{prefix}"\ndatabase = "{database}"\n')

    def system(self) -> None:
        self.site = PhpSite(self.folder / "live").install()
        self.live = self._on(self.site("echo DB_NAME;"))

    def work(self, side: Run, first: int, pages: int, edits: int) -> None:
        """Edit pages, and add others with four fields each."""
        names = range(first, first + pages)
        if self.kind == "system":
            side(f"UPDATE kr_posts SET post_content = CONCAT(post_content, ' more') WHERE post_type = 'page' AND "
                 f"menu_order BETWEEN 1 AND {edits}")
            side("INSERT INTO kr_posts (post_author, post_date, post_date_gmt, post_content, post_title, post_excerpt, "
                 "post_status, post_name, to_ping, pinged, post_modified, post_modified_gmt, post_content_filtered, "
                 "post_type, guid) SELECT 1, '2026-01-01 10:00', '2026-01-01 10:00', 'words', CONCAT('New ', seq), '', "
                 "'publish', CONCAT('new-', seq), '', '', '2026-01-01 10:00', '2026-01-01 10:00', '', 'page', '' "
                 f"FROM seq_{first}_to_{first + pages - 1}")
            side("INSERT INTO kr_postmeta (post_id, meta_key, meta_value) SELECT ID, CONCAT('_f', seq), 'value' FROM "
                 "kr_posts, seq_1_to_4 WHERE post_name LIKE 'new-%' AND menu_order = 0 AND ID NOT IN (SELECT post_id "
                 "FROM kr_postmeta)")
            return
        p = "" if self.kind == "sqlite" else "kr_"
        side(f"UPDATE {p}pages SET body = 'changed ' || body WHERE id <= {edits}" if self.kind == "sqlite" else
             f"UPDATE {p}pages SET body = CONCAT('changed ', body) WHERE id <= {edits}")
        for at in range(0, pages, 500):
            some = names[at:at + 500]
            side(f"INSERT INTO {p}pages (title, slug, body, parent) VALUES "
                 + ", ".join(f"('New {i}', 'new-{i}', 'words {i}', {1 + i % 50})" for i in some))
        side(f"INSERT INTO {p}page_fields (page_id, name, value) SELECT g.id, f.name, 'value' FROM {p}pages g, "
             "(SELECT 'a' AS name UNION SELECT 'b' UNION SELECT 'c' UNION SELECT 'd') f WHERE g.slug LIKE 'new-%' "
             f"AND g.id NOT IN (SELECT page_id FROM {p}page_fields)")

    def gain(self, orders: int) -> None:
        """Visitors order on live."""
        if self.kind == "system":
            self.live("INSERT INTO kr_comments (comment_post_ID, comment_author, comment_content, comment_date, "
                      f"comment_date_gmt) SELECT 1, 'V', 'said', '2026-01-01 10:00', '2026-01-01 10:00' FROM "
                      f"seq_1_to_{orders}")
            return
        p = "" if self.kind == "sqlite" else "kr_"
        for at in range(0, orders, 500):
            self.live(f"INSERT INTO {p}orders (number, email, total) VALUES " + ", ".join(
                f"('o-{i}', 'v{i}@visitor.example', {i})" for i in range(at, min(orders, at + 500))))

    def seed(self) -> None:
        if self.kind == "system":
            self.live("INSERT INTO kr_posts (post_author, post_date, post_date_gmt, post_content, post_title, "
                      "post_excerpt, post_status, post_name, to_ping, pinged, post_modified, post_modified_gmt, "
                      "post_content_filtered, post_type, guid, menu_order) SELECT 1, '2026-01-01', '2026-01-01', "
                      "REPEAT(MD5(seq), 20), CONCAT('Page ', seq), '', 'publish', CONCAT('page-', seq), '', '', "
                      f"'2026-01-01', '2026-01-01', '', 'page', '', seq FROM seq_1_to_{_PAGES}")
            self.live("INSERT INTO kr_postmeta (post_id, meta_key, meta_value) SELECT ID, CONCAT('_f', seq), MD5(ID) "
                      "FROM kr_posts, seq_1_to_4 WHERE post_type = 'page'")
        else:
            p = "" if self.kind == "sqlite" else "kr_"
            self.live("".join(
                f"INSERT INTO {p}pages (title, slug, body, parent) VALUES " + ", ".join(
                    f"('Page {i}', 'page-{i}', '<p>Words of {i}</p>', {max(1, i // 10) if i > 1 else 'NULL'})"
                    for i in range(at, at + 500)) + ";" for at in range(1, _PAGES, 500)))
            self.live(f"INSERT INTO {p}page_fields (page_id, name, value) SELECT id, 'a', 'x' FROM {p}pages; "
                      f"INSERT INTO {p}page_fields (page_id, name, value) SELECT id, 'b', 'y' FROM {p}pages")
            self.gain(1000)


_TABLES = """CREATE TABLE {p}pages (id {key} {auto}, title {text}, slug {text} UNIQUE, body TEXT, parent int,
  FOREIGN KEY (parent) REFERENCES {p}pages (id));
CREATE TABLE {p}page_fields (id {key} {auto}, page_id int NOT NULL, name {text}, value TEXT,
  FOREIGN KEY (page_id) REFERENCES {p}pages (id));
CREATE TABLE {p}orders (id {key} {auto}, number {text}, email {text}, total int)"""


class Counter:
    statements = 0


@contextmanager
def counted() -> Iterator[None]:
    """Count the statements that Nostos sends."""
    def counting(method: Callable[..., Any]) -> Callable[..., Any]:
        def run(*args: Any, **named: Any) -> Any:
            Counter.statements += 1
            return method(*args, **named)

        return run

    with mock.patch.object(SqliteSession, "_run", counting(SqliteSession._run)), mock.patch.object(
            MysqlSession, "_cursor", counting(MysqlSession._cursor)):
        yield


def one(kind: str, rows: int) -> dict[str, float]:
    """So many changed rows: a tenth of them new pages, four tenths their fields, half of them edits; a tenth as many
    files; as many orders on live."""
    found: dict[str, float] = {}
    with tempfile.TemporaryDirectory() as made:
        site = Site(kind, Path(made))
        site.seed()
        site.clone()
        site.work(site.staging, 1, rows // 10, rows // 2)
        site.gain(rows)
        for number in range(rows // 10):
            place = site.folder / f"staging/papers/{number // 100}/{number}.txt"
            place.parent.mkdir(parents=True, exist_ok=True)
            place.write_text(f"paper {number}")

        def measured(name: str, work: Callable[[], Any]) -> Any:
            Counter.statements, begun = 0, time.monotonic()
            result = work()
            found[name] = time.monotonic() - begun
            found[name + " statements"] = Counter.statements
            return result

        kinds = ("page/*", "pages/*", "page_fields/*", "file/*")
        with counted(), opened(site.home, site.home.read("bench")) as crew:
            comparison, _ = measured("compare", lambda: compare_voyage(crew))
            take = tuple(k for k in kinds if any(i.startswith(k[:-1]) for i in comparison.items))
            del comparison
            done = measured("merge", lambda: merge(site.home, crew, prepare(crew, Choice(take))))
            found["locked"] = done.locked
            measured("undo", lambda: merge(site.home, crew, prepare_undo(
                site.home, crew, to_take_back(site.home, "bench", None))))
            measured("refresh", lambda: merge(site.home, crew, prepare(
                crew, Choice(everyone=True), toward=Side.STAGING)))
        found["plain"] = _plain(site, rows)
    found["memory"] = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1024
    return found


def _plain(site: Site, rows: int) -> float:
    """As many rows with one INSERT after another, in one transaction."""
    if site.kind == "sqlite":
        connection: Any = sqlite3.connect(site.folder / "live/made.db", isolation_level=None)
        mark = "?"
    else:
        import pymysql

        place = site.home.read("bench").place
        connection = pymysql.connect(unix_socket=mariadb().socket, user="root", database=place, autocommit=False)
        mark = "%s"
    cursor = connection.cursor()
    begun = time.monotonic()
    cursor.execute("CREATE TABLE plain (id INTEGER PRIMARY KEY, a TEXT, b TEXT, c TEXT)")
    cursor.execute("BEGIN")
    for number in range(rows):
        cursor.execute(f"INSERT INTO plain VALUES ({mark}, {mark}, {mark}, {mark})", (number, "New page", "words", "x"))
    cursor.execute("COMMIT")
    took = time.monotonic() - begun
    connection.close()
    return took


def main() -> None:
    parser = argparse.ArgumentParser()
    parser.add_argument("sizes", nargs="*", type=int, default=[1000, 20_000])
    parser.add_argument("--on", default=",".join(_ENGINES))
    args = parser.parse_args()
    for kind in args.on.split(","):
        found = []
        for rows in args.sizes:  # a process each, so that memory is each one's own
            done = subprocess.run([sys.executable, "-W", "ignore", "-m", "bench.changes"], check=True,
                                  capture_output=True, env={**os.environ, "BENCH_CHANGES": f"{kind} {rows}"})
            found.append(json.loads(done.stdout))
        first, last = found[0], found[-1]
        print(f"{kind}, {' and '.join(f'{s:,}' for s in args.sizes)} changed rows")
        for name in ("compare", "merge", "undo", "refresh"):
            power = math.log(last[name] / first[name]) / math.log(args.sizes[-1] / args.sizes[0]) if found[1:] else 0
            print(f"  {name:8} " + ", ".join(
                f"{f[name]:6.2f} s, {f[name + ' statements']:6.0f} statements" for f in found)
                + f"; grows to the power of {power:.2f} (bar: 1.1)")
        print("  locked   " + ", ".join(f"{f['locked']:.2f} s" for f in found))
        print("  merge beside one INSERT after another: "
              + ", ".join(f"{f['merge'] / f['plain']:.1f}" for f in found) + " (bar: 4)")
        print("  memory   " + ", ".join(f"{f['memory']:.0f} MB" for f in found) + " (bar: 250)", flush=True)


if __name__ == "__main__":
    asked = os.environ.get("BENCH_CHANGES")
    if asked:
        print(json.dumps(one(asked.split()[0], int(asked.split()[1]))))
    else:
        main()
