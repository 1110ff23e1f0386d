"""Making and removing the place where a staging copy keeps its rows: a file, a database, or tables under a prefix."""

from __future__ import annotations

from collections.abc import Collection
from contextlib import suppress
from dataclasses import dataclass, replace
from pathlib import Path

from nostos.core.database.location import Location
from nostos.core.database.mysql import places as mysql_places
from nostos.core.database.mysql.connect import NoSuchDatabase
from nostos.core.database.mysql.connection import MysqlDatabase
from nostos.core.database.protocol import Database
from nostos.core.database.sqlite.connection import SqliteDatabase
from nostos.core.errors import SiteError


@dataclass(frozen=True)
class Place:
    """A new place: where it is, and what was made for it ("file", "database" or "tables").

    user: name, host and password of a user of the server's who was made for it, and who may use it and nothing else.
    """

    location: Location
    made: str
    user: tuple[str, str, str] | None = None

    @property
    def own(self) -> Location:
        """The place as staging itself uses it."""
        if self.user is None:
            return self.location
        return replace(self.location, url=self.location.url.set(username=self.user[0], password=self.user[2]))

    def open(self) -> Database:
        """Open it for filling. A file is made here."""
        if self.location.file is not None:
            return SqliteDatabase(self.location.file, create=True)
        return self.location.open()


def choose_place(live: Location, wanted: Location, asked: bool, fallback: str) -> Place:
    """Where staging's rows will go, with nothing made yet but, on a server, the database.

    asked: the user named the place; where not, and the rights do not allow a new database, tables in live's database
    under the prefix `fallback` are taken instead. Raises SiteError when the place is taken or cannot be had.
    """
    if wanted.none:
        return Place(wanted, "nothing")
    if wanted.file is not None:
        return Place(wanted, "file")
    if wanted.url.database != live.url.database or not one_server(live, wanted):
        with suppress(SiteError):
            return _empty(wanted)
        if one_server(live, wanted):
            source = live.open()
            assert isinstance(source, MysqlDatabase)
            try:
                mysql_places.make_database(source, str(wanted.url.database))
                return Place(wanted, "database", mysql_places.make_user(source, str(wanted.url.database)))
            except SiteError:
                if asked:
                    raise
            finally:
                source.close()
            wanted = replace(live, prefix=fallback)
    return _empty(wanted)


def one_server(one: Location, other: Location) -> bool:
    """Whether two databases are on one server. The other may not be there yet: then its server's is asked, if it is
    written alike, or by a database that is there."""
    if one.none or other.none:
        return one.none and other.none
    return one.on_server_of(other) or one.on_server_of(replace(other, url=other.url.set(database=one.url.database)))


def _empty(wanted: Location) -> Place:
    """An existing database with room for the tables. Raises SiteError when there is none, or tables are in the way."""
    database = wanted.open()
    assert isinstance(database, MysqlDatabase)
    try:
        others = mysql_places.others(database)
    finally:
        database.close()
    if others:
        raise SiteError(f"There are tables in {wanted.shown} already, such as {others[0]}.",
                        next_step="Name an empty database, or another --prefix.")
    return Place(wanted, "tables")


def remove_place(location: Location, made: str, tables: Collection[str], user: str = "") -> list[str]:
    """Remove what was made for a place. Returns the names of tables beside it that had to be left.

    tables: the full names of what was made in a database that is not staging's alone. user: the one who was made for
    it, as name@host. Raises SiteError when the place
    cannot be reached.
    """
    if location.none:
        return []
    if location.file is not None:
        for ending in ("", "-wal", "-shm", "-journal"):
            Path(f"{location.file}{ending}").unlink(missing_ok=True)
        return []
    try:
        database = location.open()
    except NoSuchDatabase:
        return []  # it is gone already
    assert isinstance(database, MysqlDatabase)
    try:
        if user:
            mysql_places.drop_user(database, user)
        if made == "database":
            mysql_places.drop_database(database, str(location.url.database))
            return []
        return mysql_places.wipe(database, tables)
    finally:
        database.close()
