"""What the tests share: sites in temporary folders, voyages of them, and the built program run on them."""

from __future__ import annotations

import atexit
import hashlib
import os
import shutil
import sqlite3
import subprocess
import sys
import tempfile
import unittest
from collections.abc import Iterator
from contextlib import contextmanager
from functools import cache
from pathlib import Path
from typing import Any

from nostos.core.anchor.names import Side
from nostos.core.anchor.open_voyage import Crew, opened
from nostos.core.apply.merge import MergeResult, merge
from nostos.core.clone.clone import clone
from nostos.core.compare.items import Comparison
from nostos.core.hosts.helper import free_port
from nostos.core.plan.prepared import compare_voyage, prepare
from nostos.core.plan.selection import Choice
from nostos.core.voyages.home import Home
from nostos.demo.seed import make
from nostos.demo.server import Server
from nostos.demo.story import Story
from nostos.demo.system import Observatory

LIVE_URL, STAGING_URL = "http://127.0.0.1:8431", "http://127.0.0.1:8432"


@cache
def template() -> Path:
    """The demo site, made once; tests copy it."""
    folder = Path(tempfile.mkdtemp(prefix="nostos-test-"))
    atexit.register(shutil.rmtree, folder, ignore_errors=True)
    make(folder / "live", LIVE_URL)
    rows(folder / "live" / "data" / "site.db", "PRAGMA wal_checkpoint(TRUNCATE)")
    return folder / "live"


class Voyaged:
    """Whatever has a home with one voyage in it, called trip."""

    home: Home

    @contextmanager
    def crew(self) -> Iterator[Crew]:
        with opened(self.home, self.home.read("trip")) as crew:
            yield crew

    def compare(self) -> Comparison:
        with self.crew() as crew:
            return compare_voyage(crew)[0]

    def standings(self) -> dict[str, str]:
        return {i.id: str(i.standing) for i in self.compare().items.values()}


class Harbour(Voyaged):
    """A live site with one voyage, in a folder of its own. host: the one that both sites are on, as it is called."""

    def __init__(self, folder: Path, site: Path | None = None, url: str = STAGING_URL, host: str = "") -> None:
        before = f"{host}:" if host else ""
        self.folder = folder
        self.home = Home(folder / "home")
        if site is None:
            shutil.copytree(template(), folder / "live")
        self.live_folder = site or folder / "live"
        self.staging_folder = folder / "staging"
        self.cloned = clone(self.home, f"{before}{self.live_folder}", "trip", f"{before}{self.staging_folder}", url)

    @property
    def live(self) -> Observatory:
        return Observatory(self.live_folder)

    @property
    def staging(self) -> Observatory:
        return Observatory(self.staging_folder)

    def homeward(self) -> list[str]:
        with self.crew() as crew:
            return sorted(compare_voyage(crew)[1])

    def merge(self, *take: str, leave: tuple[str, ...] = ()) -> MergeResult:
        with self.crew() as crew:
            return merge(self.home, crew, prepare(crew, Choice(take, leave)))


    def refresh(self, *take: str) -> MergeResult:
        with self.crew() as crew:
            return merge(self.home, crew, prepare(crew, Choice(take, everyone=True), toward=Side.STAGING))


class SiteTest(unittest.TestCase):
    """A test with a temporary folder, and on request a voyage of the demo site."""

    def setUp(self) -> None:
        self.folder = Path(tempfile.mkdtemp(prefix="nostos-test-"))
        self.addCleanup(shutil.rmtree, self.folder, ignore_errors=True)

    def harbour(self) -> Harbour:
        return Harbour(self.folder)

    def lived_in(self) -> Harbour:
        """A voyage with the story's work on both sides."""
        harbour = self.harbour()
        story = Story(self.folder)
        story.work_on_staging()
        story.life_on_live()
        return harbour


class ServedTest(SiteTest):
    """A voyage of a demo site whose sites answer on this machine. answering: which of them."""

    answering: tuple[str, ...] = ("live",)

    def setUp(self) -> None:
        super().setUp()
        live, staging = (f"http://127.0.0.1:{free_port()}" for _ in range(2))
        make(self.folder / "live", live)
        self.h = Harbour(self.folder, self.folder / "live", staging)
        self.servers = [Server(self.folder / name) for name in self.answering]
        for server in self.servers:
            server.start()
            self.addCleanup(server.server_close)
            self.addCleanup(server.shutdown)


def rows(path: Path, sql: str, *values: Any) -> list[tuple[Any, ...]]:
    """What a query gives on a database file."""
    connection = sqlite3.connect(f"file:{path}?mode=rw", uri=True)
    connection.text_factory = lambda text: text.decode("utf-8", "surrogateescape")
    try:
        with connection:
            return connection.execute(sql, values).fetchall()
    finally:
        connection.close()


def contents(path: Path, without: tuple[str, ...] = ("cache", "sessions")) -> dict[str, list[tuple[Any, ...]]]:
    """Every row of every table of a database file, but Nostos's own."""
    names = [n for (n,) in rows(path, "SELECT name FROM sqlite_master WHERE type='table' AND name NOT LIKE 'sqlite%' "
                                      "ORDER BY name")]
    return {n: sorted(rows(path, f'SELECT * FROM "{n}"'), key=repr)
            for n in names if n not in without and not n.startswith("nostos_")}


def tree(root: Path) -> dict[str, str]:
    """Every file below a folder with a digest, but the database."""
    return {p.relative_to(root).as_posix(): hashlib.sha256(p.read_bytes()).hexdigest()
            for p in sorted(root.rglob("*")) if p.is_file() and "site.db" not in p.name}


def state(site: Path) -> tuple[Any, Any]:
    """All of a demo site that counts: rows and files."""
    return contents(site / "data" / "site.db"), tree(site)


def dangling(path: Path) -> list[tuple[Any, ...]]:
    """References of the demo site, declared or not, that point at nothing."""
    found = rows(path, "PRAGMA foreign_key_check")
    found += rows(path, "SELECT content_id, value FROM content_fields WHERE name='picture' "
                        "AND CAST(value AS INTEGER) NOT IN (SELECT id FROM content WHERE kind='picture')")
    found += rows(path, "SELECT s.name, j.value FROM settings s, json_tree(s.value) j WHERE s.name LIKE 'menu.%' "
                        "AND j.key='content' AND j.value NOT IN (SELECT id FROM content)")
    return found


class Program:
    """The built program, as a user runs it."""

    def __init__(self, folder: Path) -> None:
        self.folder = folder

    def __call__(self, *args: str, answer: str = "") -> subprocess.CompletedProcess[str]:
        return subprocess.run(
            [sys.executable, "-m", "nostos", *args], input=answer, capture_output=True, text=True, cwd=self.folder,
            timeout=600, env={**os.environ, "NOSTOS_HOME": str(self.folder / "home"), "COLUMNS": "160"}, check=False)
