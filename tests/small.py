"""A site of a few tables that no profile knows, on any engine, with one voyage: what a law needs, and no more."""

from __future__ import annotations

import sqlite3
from collections.abc import Callable, Sequence
from pathlib import Path
from typing import Any
from urllib.parse import quote

import psycopg

from nostos.core.apply.merge import MergeResult, merge
from nostos.core.clone.clone import clone
from nostos.core.plan.prepared import prepare
from nostos.core.plan.selection import Choice
from nostos.core.sites.recognise import recognise
from nostos.core.voyages.home import Home
from tests.support import Voyaged

ENGINES = ("sqlite", "mariadb", "postgresql")
KEY = {"sqlite": "INTEGER PRIMARY KEY", "mariadb": "INT AUTO_INCREMENT PRIMARY KEY",
       "postgresql": "SERIAL PRIMARY KEY"}  # a key that the engine gives out


BYTES = {"sqlite": "BLOB", "mariadb": "LONGBLOB", "postgresql": "BYTEA"}


def literal(engine: str, content: bytes) -> str:
    """Bytes, as a statement has them."""
    return f"'\\x{content.hex()}'" if engine == "postgresql" else f"X'{content.hex()}'"


class Small(Voyaged):
    """engine: one of `ENGINES`. schema: statements that make the site; `{key}` in one is the engine's own key column's
    type. more: lines of its site file. files: that live has."""

    def __init__(self, folder: Path, engine: str, schema: tuple[str, ...], more: str = "",
                 files: Sequence[str] = ()) -> None:
        self.engine, self.home = engine, Home(folder / "home")
        self.live_folder, self.staging_folder = folder / "live", folder / "staging"
        self.live_folder.mkdir()
        url = "sqlite:///site.db"
        if engine == "mariadb":
            from tests.real.servers import PASSWORD, mariadb

            self.server: Any = mariadb()
            url = (f"mysql://live:{quote(PASSWORD, safe='')}@localhost/{self.server.new_database()}"
                   f"?unix_socket={self.server.socket}")
        elif engine == "postgresql":
            from tests.real.postgres import postgres

            self.server = postgres()
            url = self.server.url(self.server.new_database())
        else:
            (self.live_folder / "site.db").touch()
        (self.live_folder / "page.html").write_text("hello\n")
        (self.live_folder / "nostos.toml").write_text(
            f'{more}[site]\nname = "small"\nurl = "http://127.0.0.1:8431"\ndatabase = {url!r}\n')
        for statement in schema:
            self.sql("live", statement.replace("{key}", KEY[engine]))
        for path in files:
            self.file("live", path)
        self.configured(url)
        clone(self.home, str(self.live_folder), "trip", str(self.staging_folder), "http://127.0.0.1:8432")

    def configured(self, url: str) -> None:
        """Called when live is whole, before it is cloned. url: of its database."""

    def file(self, side: str, path: str) -> None:
        """Make a file on "live" or in "staging", which says where it was made."""
        place = (self.live_folder if side == "live" else self.staging_folder) / path
        place.parent.mkdir(parents=True, exist_ok=True)
        place.write_text(f"{side} {path}")

    def sql(self, side: str, statement: str) -> list[tuple[Any, ...]]:
        """Run a statement on "live" or in "staging", as the site's own code would."""
        folder = self.live_folder if side == "live" else self.staging_folder
        if self.engine == "mariadb":
            database = str(recognise(str(folder)).database.url.database)
            return [tuple(r) for r in self.server.run(statement, database=database)]
        if self.engine == "postgresql":
            url = recognise(str(folder)).database.url.set(drivername="postgresql")
            with psycopg.connect(url.render_as_string(hide_password=False), autocommit=True) as database:
                cursor = database.execute(statement.encode())
                return [tuple(r) for r in cursor.fetchall()] if cursor.description else []
        connection = sqlite3.connect(folder / "site.db")
        try:
            with connection:
                return connection.execute(statement).fetchall()
        finally:
            connection.close()

    def merge(self, *take: str, between: Callable[[], object] = lambda: None) -> MergeResult:
        """between: what happens after the list was shown, and before it is carried out."""
        with self.crew() as crew:
            ready = prepare(crew, Choice(take, everyone=True))
            between()
            return merge(self.home, crew, ready)
