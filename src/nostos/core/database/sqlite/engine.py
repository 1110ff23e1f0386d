"""SQLite: a site's tables are a file on its own machine."""

from __future__ import annotations

import re
from collections.abc import Collection, Iterator
from contextlib import suppress
from pathlib import Path

import sqlalchemy as sa

from nostos.core.database.engines import Engine, Location, Made, Place, Swap, locate, register
from nostos.core.database.outline import Outline, bare, check_names, check_table, makes, refused
from nostos.core.database.protocol import Database
from nostos.core.database.sqlite.connection import SqliteDatabase
from nostos.core.database.sqlite.swap import FileSwap
from nostos.core.errors import SiteError

_MODULES = re.compile(r"\bUSING\s+(?:fts[345]|rtree)\b", re.IGNORECASE)
_ENDINGS = ("", "-wal", "-shm", "-journal")


class SqliteEngine(Engine):
    name = "sqlite"
    schemes = ("sqlite",)
    title = "SQLite"
    kept = "a SQLite file"
    example = "sqlite:///data/site.db"
    is_file = True

    def parse(self, url: sa.URL, folder: Path) -> sa.URL:
        if not url.database or url.database == ":memory:":
            raise SiteError("The database URL names no file.", next_step=f"Write it like {self.example}.")
        return sa.URL.create(self.name, database=str((folder / url.database).resolve()))

    def at_path(self, path: str, folder: Path) -> Location:
        return Location(sa.URL.create(self.name, database=str((folder / path).resolve())))

    def shown(self, location: Location) -> str:
        return str(self.file(location))

    def file(self, location: Location) -> Path:
        return Path(location.url.database or "")

    def companions(self, location: Location) -> tuple[Path, ...]:
        return tuple(Path(f"{self.file(location)}{ending}") for ending in _ENDINGS)

    def same(self, one: Location, other: Location) -> bool:
        mine, theirs = self.file(one), self.file(other)
        with suppress(OSError):
            return mine.samefile(theirs)
        return mine == theirs

    def same_server(self, one: Location, other: Location) -> bool:
        return False

    def open(self, location: Location, readonly: bool = False) -> Database:
        return SqliteDatabase(self.file(location), readonly)

    def create(self, location: Location) -> Database:
        return SqliteDatabase(self.file(location), create=True)

    # --- places for copies

    def beside(self, live: Location, home: Path, target: Path, name: str) -> Location:
        file = self.file(live)
        place = file.relative_to(home) if file.is_relative_to(home) else Path("data") / file.name
        return Location(live.url.set(database=str(target / place)))

    def asked(self, live: Location, wanted: str | None, prefix: str | None) -> Location:
        if prefix or wanted is None:
            raise SiteError("A prefix tells sites in one server database apart; SQLite sites have files of their own.",
                            next_step="Leave --prefix out.")
        found = locate(wanted, Path.cwd()) if "://" in wanted else self.at_path(wanted, Path.cwd())
        if found.engine is not self:
            raise SiteError("Live is kept in SQLite; its copy cannot be kept in another kind of database.",
                            next_step="Name a SQLite file with --database, or leave it out.")
        return found

    def make_place(self, live: Location, wanted: Location, asked: bool, fallback: str) -> Place:
        return Place(wanted, Made.FILE)

    def remove_place(self, location: Location, made: Made, tables: Collection[str], user: str) -> list[str]:
        for path in self.companions(location):
            path.unlink(missing_ok=True)
        return []

    def check_free(self, location: Location) -> None:
        if self.file(location).exists():
            raise SiteError("The backup's database is a SQLite file; a new one is needed.",
                            next_step="Name a file that is not there yet with --database, or leave it out.")

    # --- a site's tables as a whole

    def swap(self, location: Location, folder: Path, mark: str) -> Swap:
        return FileSwap(self.file(location), folder, mark)

    def check_outline(self, outline: Outline) -> None:
        check_names(outline)
        for table in outline.tables:
            check_table(table)
            for name, ddl in table.indexes:
                makes(ddl, "(?:UNIQUE )?INDEX", name)
        for name, sql in outline.virtual:
            makes(sql, "VIRTUAL TABLE", name)
            if not _MODULES.search(bare(sql)):
                raise refused(f"the kind of table that {name} is")
        for name, sql in outline.views:
            makes(sql, "VIEW", name)
        for trigger in outline.triggers:
            makes(trigger.body, "TRIGGER", trigger.name)

    def script(self, outline: Outline) -> Iterator[str]:
        for table in outline.tables:
            yield table.ddl
            yield from (ddl for _, ddl in table.indexes)
        yield from (sql for _, sql in (*outline.virtual, *outline.views))
        yield from (t.body for t in outline.triggers)


register(SqliteEngine())
