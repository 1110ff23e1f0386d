"""How long a visitor's write waits while merges run on a site that has grown: `python -m tests.waits`.

The site has 400,000 rows; live has gained 30,000 orders and 1 GB of uploads since the clone. Visitors order all the
while, by themselves first, then while a removal and 500 new rows go home and are taken back.
"""

from __future__ import annotations

import multiprocessing
import os
import sqlite3
import sys
import tempfile
import time
from collections.abc import Callable, Iterator
from multiprocessing.synchronize import Event
from pathlib import Path
from typing import Any

import pymysql

from nostos.core.anchor.open_voyage import opened
from nostos.core.apply.merge import merge
from nostos.core.clone.clone import clone
from nostos.core.errors import NostosError
from nostos.core.plan.prepared import compare_voyage, prepare
from nostos.core.plan.selection import Choice
from nostos.core.sites.recognise import recognise
from nostos.core.takeback.undo import prepare_undo, to_take_back
from nostos.core.voyages.home import Home
from tests.real.servers import PASSWORD, PhpSite, mariadb, missing
from tests.support import STAGING_URL, Harbour

ROWS, ORDERS, BYTES, NEW = 400_000, 30_000, 1 << 30, 500
Write = Callable[[int], None]  # one visitor's order


def _visit(write: Write, said: Path, stop: Event) -> None:
    with said.open("a") as file:
        number = 0
        while not stop.is_set():
            number += 1
            begun = time.monotonic()
            try:
                write(number)
                file.write(f"{time.monotonic() - begun:.4f}\n")
            except Exception as error:
                file.write(f"error {error}\n")
            file.flush()
            time.sleep(0.01)


def during(write: Write, work: Callable[[], Any]) -> tuple[float, float, int]:
    """Do some work while a visitor writes. Returns its seconds, the longest wait, and how many errors there were."""
    with tempfile.TemporaryDirectory(prefix="nostos-waits-") as made:
        said, stop = Path(made) / "said", multiprocessing.Event()
        visitor = multiprocessing.get_context("fork").Process(target=_visit, args=(write, said, stop))
        visitor.start()
        time.sleep(0.3)
        begun = time.monotonic()
        try:
            work()
        finally:
            seconds = time.monotonic() - begun
            stop.set()
            visitor.join()
        lines = said.read_text().split("\n")[:-1]
        errors = [line for line in lines if line.startswith("error")]
        return seconds, max(float(line) for line in lines if not line.startswith("error")), len(errors)


def told(name: str, home: Home, write: Write, remove: str, new: str) -> Iterator[str]:
    """Measure on one voyage. remove, new: patterns of what is removed and of what is new."""
    def operate(choice: Choice | None) -> None:
        with home.lock("trip"), opened(home, home.read("trip")) as crew:
            merge(home, crew, prepare(crew, choice) if choice else prepare_undo(
                home, crew, to_take_back(home, "trip", None)))

    def compare() -> None:
        with opened(home, home.read("trip")) as crew:
            compare_voyage(crew)

    alone = during(write, lambda: time.sleep(10))
    yield f"{name}: nothing else: longest wait {alone[1] * 1000:.0f} ms, errors {alone[2]}"
    looked = during(write, compare)
    yield f"{name}: compare: {looked[0]:.1f} s, longest wait {looked[1] * 1000:.0f} ms, errors {looked[2]}"
    for what, choice in (("a removal", Choice((remove,))), ("undo of it", None), (f"{NEW} new rows", Choice((new,))),
                         ("undo of them", None)):
        try:
            found = during(write, lambda choice=choice: operate(choice))  # type: ignore[misc]
        except NostosError as error:
            yield f"{name}: {what}: refused: {error.what}"
            continue
        yield (f"{name}: {what}: {found[0]:.1f} s ({found[0] / looked[0]:.1f} times a compare), longest wait "
               f"{found[1] * 1000:.0f} ms ({(found[1] - alone[1]) * 1000:+.0f} ms), errors {found[2]}")


def uploads(folder: Path, size: int) -> None:
    folder.mkdir(parents=True, exist_ok=True)
    piece = 16 << 20
    for n in range(max(1, size // piece)):
        with (folder / f"film-{n}.bin").open("wb") as file:
            for _ in range(16):
                file.write(os.urandom(1 << 20))


def on_sqlite(scale: float) -> Iterator[str]:
    with tempfile.TemporaryDirectory(prefix="nostos-waits-") as made:
        seed = Harbour(Path(made) / "seed")
        live = seed.live_folder
        with sqlite3.connect(seed.live.database) as db:
            many = int(ROWS * scale) // 10
            first = db.execute("SELECT seq FROM sqlite_sequence WHERE name='content'").fetchone()[0] + 1
            db.executemany("INSERT INTO content (id, kind, slug, title, created, modified) VALUES (?, 'page', ?, ?, "
                           "'2026-01-01', '2026-01-01')", ((first + n, f"p{n}", f"Page {n}") for n in range(many)))
            db.executemany("INSERT INTO content_fields (content_id, name, value) VALUES (?, ?, ?)", (
                (first + n, f"f{k}", str(n * k)) for n in range(many) for k in range(9)))
        h = Harbour(Path(made) / "site", live)
        page = h.staging.find("page", "p17")["id"]
        h.staging.remove(page)
        for n in range(NEW // 5):
            h.staging.add("page", f"new-{n}", f"New {n}", fields={f"k{k}": str(n) for k in range(4)})
        ticket = h.live.find("product", "evening-ticket")["id"]
        with sqlite3.connect(h.live.database) as db:
            first = db.execute("SELECT seq FROM sqlite_sequence WHERE name='content'").fetchone()[0] + 1
            some = range(int(ORDERS * scale))
            db.executemany("INSERT INTO content (id, kind, slug, title, created, modified) VALUES (?, 'order', ?, 'V', "
                           "'2026-01-01', '2026-01-01')", ((first + n, f"o{n}") for n in some))
            db.executemany("INSERT INTO order_lines (order_id, product_id, quantity, cents) VALUES (?, ?, 1, 900)", (
                (first + n, ticket) for n in some))
        uploads(live / "uploads/films", int(BYTES * scale))
        site = h.live
        yield from told("SQLite", h.home, lambda n: site.order(f"w{os.getpid()}-{n}", "V", [(ticket, 1, 900)]) and None,
                        "page/p17", "page/new-*")


def on_mariadb(scale: float) -> Iterator[str]:
    with tempfile.TemporaryDirectory(prefix="nostos-waits-") as made:
        live = PhpSite(Path(made) / "live").install()
        name = str(recognise(live.folder).database.url.database)
        server = mariadb()

        def sql(text: str, database: str = name) -> None:
            server.run(text, database=database)

        many = int(ROWS * scale) // 11
        post = ("INSERT INTO {p}posts (post_author, post_date, post_date_gmt, post_content, post_title, post_excerpt, "
                "post_status, post_name, to_ping, pinged, post_modified, post_modified_gmt, post_content_filtered, "
                "post_type) SELECT 1, NOW(), NOW(), '{body}', CONCAT('{title} ', seq), '', 'publish', "
                "CONCAT('{slug}-', seq), '', '', NOW(), NOW(), '', '{kind}' FROM seq_1_to_{count}")
        sql(post.format(p="kr_", body="<p>Some 5 words on 17 nights</p>", title="Page", slug="p", kind="page",
                        count=many))
        sql("INSERT INTO kr_postmeta (post_id, meta_key, meta_value) SELECT ID, CONCAT('_field_', seq), seq * 7 "
            "FROM kr_posts, seq_1_to_10 WHERE post_type = 'page'")
        home = Home(Path(made) / "home")
        made_here = clone(home, live.folder, "trip", Path(made) / "staging", STAGING_URL)
        place, prefix = made_here.voyage.place, made_here.voyage.prefix
        sql(f"DELETE FROM {prefix}postmeta WHERE post_id IN (SELECT ID FROM {prefix}posts WHERE post_name='p-17')",
            place)
        sql(f"DELETE FROM {prefix}posts WHERE post_name='p-17'", place)
        sql(post.format(p=prefix, body="<p>New</p>", title="New", slug="new", kind="page", count=NEW // 5), place)
        sql(f"INSERT INTO {prefix}postmeta (post_id, meta_key, meta_value) SELECT ID, CONCAT('_k', seq), 'new' FROM "
            f"{prefix}posts, seq_1_to_4 WHERE post_name LIKE 'new-%%'", place)
        sql(post.format(p="kr_", body="", title="Order", slug="o", kind="order", count=int(ORDERS * scale)))
        sql("INSERT INTO kr_postmeta (post_id, meta_key, meta_value) SELECT ID, '_total', '900' FROM kr_posts "
            "WHERE post_type = 'order'")
        uploads(live.folder / "wp-content/uploads/films", int(BYTES * scale))
        connections: dict[int, Any] = {}

        def order(number: int) -> None:
            if os.getpid() not in connections:
                connections[os.getpid()] = pymysql.connect(unix_socket=server.socket, user="live", password=PASSWORD,
                                                           database=name, charset="utf8mb4")
            db = connections[os.getpid()]
            with db.cursor() as cursor:
                cursor.execute(post.format(p="kr_", body="", title="Order", slug=f"w{number}", kind="order", count=1))
                cursor.execute("INSERT INTO kr_postmeta (post_id, meta_key, meta_value) VALUES (%s, '_total', '9')",
                               (cursor.lastrowid,))
            db.commit()

        yield from told("MariaDB", home, order, "page/p-17", "page/new-*")


if __name__ == "__main__":
    scale = float(sys.argv[1]) if len(sys.argv) > 1 else 1.0
    for line in on_sqlite(scale):
        print(line, flush=True)
    for line in on_mariadb(scale) if not missing() else ():
        print(line, flush=True)
