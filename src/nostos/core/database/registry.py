"""Where a site's tables are, and the engines that keep them.

An engine is a folder beside this module with one class in its `engine.py`, which registers itself. Another package can
bring one along, by an entry point of the group `nostos.engines`, or register it before it is used.
"""

from __future__ import annotations

import importlib
import importlib.util
import pkgutil
from abc import ABC, abstractmethod
from collections.abc import Callable, Collection, Iterator
from dataclasses import field, replace
from enum import StrEnum
from pathlib import Path

from nostos.core.database import column_types
from nostos.core.database.marker import marked
from nostos.core.database.outline import Outline
from nostos.core.database.protocol import Database, ServerLock
from nostos.core.database.schema import Column, Value
from nostos.core.database.url import DatabaseUrl, read_url
from nostos.core.errors import SiteError
from nostos.core.expressions import expression
from nostos.core.hosts.connection import Server
from nostos.core.hosts.far_path import AnyPath, host_of
from nostos.core.records import dataclass

_ENGINES = "nostos.core.engines"  # looked through, not imported: an engine needs what stands here
NONE = "none"  # what a site file writes for a site without a database, or without files
_PREFIX = expression(r"[A-Za-z0-9_]{0,40}")


@dataclass(frozen=True)
class Location:
    """Where a site's tables are: a database, and what their names begin with.

    url: an SQLAlchemy URL, with its password, whose driver's name is the engine's. Show `shown`, never `url`. host: the
    one as which the URL sees things; empty for this machine. own_set: tables that each of the system's sites has: where
    all of them are there under a longer prefix, that is another site. given: tables whose numbers the system gives out.
    """

    url: DatabaseUrl
    prefix: str = ""
    host: str = ""
    own_set: tuple[str, ...] = field(default=(), compare=False)
    given: tuple[str, ...] = field(default=(), compare=False)

    @property
    def engine(self) -> Engine:
        """The engine that the URL is of."""
        return engine(self.url.drivername)

    @property
    def none(self) -> bool:
        """Whether the site has no database at all."""
        return self.url.drivername == NONE

    @property
    def file(self) -> AnyPath | None:
        """The database's file, where it is one."""
        return self.engine.file(self)

    @property
    def shown(self) -> str:
        """For people: no password."""
        return self.engine.shown(self)

    def same_as(self, other: Location) -> bool:
        """Whether both are the same tables, however they are written: a server is asked. Credentials do not count."""
        return self.engine is other.engine and self.engine.same(self, other)

    def on_server_of(self, other: Location) -> bool:
        """Whether both databases are on one server. The other may not be there yet: then its server is asked by a
        database that is. One that cannot be reached is taken for what it is written as."""
        if self.engine is not other.engine:
            return False
        return self.engine.same_server(self, other) or self.engine.same_server(
            self, replace(other, url=other.url.set(database=self.url.database)))

    def open(self, readonly: bool = False) -> Database:
        """Open the database. Raises SiteError when it is missing, is none, or cannot be reached."""
        return self.engine.open(self, readonly)


class MadePlace(StrEnum):
    """What was made for a copy's tables."""

    FILE = "file"
    DATABASE = "database"
    TABLES = "tables"
    BEGUN = "begun"  # a database that was not there before, and may be there by now, empty
    NOTHING = "nothing"


@dataclass(frozen=True)
class CopyPlace:
    """A new place for a copy's tables, and what was made for it.

    user: name, host and password of a user of the server's who was made for it, and who may use it and nothing else.
    """

    location: Location
    made: MadePlace
    user: tuple[str, str, str] | None = None

    @property
    def for_copy(self) -> Location:
        """The place as the copy itself uses it."""
        if self.user is None:
            return self.location
        return replace(self.location, url=self.location.url.set(username=self.user[0], password=self.user[2]))

    def open(self) -> Database:
        """Open it for filling. A file is made here."""
        return self.location.engine.create(self.location)


class Swap(ABC):
    """Putting other tables in the place of a site's, in one step: all of them at once or none. One replacement, by the
    mark of its operation.

    The new tables are made and filled beside the old ones, where nobody sees them. Whatever can be told of how far it
    has come is told by what is there, so that it can be finished or taken back after a crash.
    """

    finishes_later = False  # views and triggers come after the commit

    @abstractmethod
    def load(self) -> Database:
        """An empty database for the new tables; what an earlier try has left there is gone."""

    @abstractmethod
    def commit(self, tables: Collection[str], check: Callable[[Database], None], last: Callable[[], None]) -> None:
        """Put the new tables in place. check: is given the site's database as it is at that moment, where it can be
        held still, and may raise; last: what else must happen, or nothing does. Raises MergeRefused."""

    @abstractmethod
    def committed(self) -> bool:
        """Whether it came to pass; told until `discard`."""

    @staticmethod
    def _is_marked(database: Database, mark: str) -> bool:
        """Whether a database, which is closed then, has the mark of an operation that was committed."""
        try:
            return marked(database, mark)
        finally:
            database.close()

    def finish(self, outline: Outline, tables: Collection[str]) -> None:  # noqa: B027 - most have nothing left to do
        """After the commit: what could not be part of it."""

    def replaced(self) -> Location | None:
        """Where the old tables are, after the commit, until `discard`."""
        return None

    @abstractmethod
    def discard(self) -> None:
        """Remove what lies beside the site's tables, old or new."""


class Engine(ABC):
    """One kind of database.

    name: as the URLs of its locations and the outlines of its databases say it. schemes: the names that users may write
    in a URL. title: for people; kept: what holds a site's tables, for people. example: a URL, for people.
    """

    name: str
    schemes: tuple[str, ...] = ()
    title: str
    kept: str
    example: str = ""
    is_file = False  # a database is a file on the site's own machine
    longest_name = 0  # characters of a table's name, prefix included; 0: no matter

    # --- where tables are

    @abstractmethod
    def parse(self, url: DatabaseUrl, folder: AnyPath) -> DatabaseUrl:
        """What a user wrote, as a location's URL; a relative path starts at `folder`. Raises SiteError."""

    def at_path(self, path: str, folder: AnyPath) -> Location:
        """The location that a mere path names. Raises SiteError where a database is no file."""
        raise SiteError(f"{path!r} is not a database's URL.", next_step=f"Write it like {self.example}.")

    @abstractmethod
    def shown(self, location: Location) -> str:
        """A location for people: no password."""

    def file(self, location: Location) -> AnyPath | None:
        """The database's file, where it is one on the site's own machine."""
        return None

    def servers(self, location: Location) -> list[Server]:
        """Where the database's server is looked for, as the site's own machine sees it; none where there is none."""
        return []

    def companions(self, location: Location) -> tuple[AnyPath, ...]:
        """The database's file and whatever the engine lays beside it."""
        return ()

    @abstractmethod
    def same(self, one: Location, other: Location) -> bool:
        """Whether two locations are the same tables."""

    @abstractmethod
    def same_server(self, one: Location, other: Location) -> bool:
        """Whether two locations are on one server; never of files."""

    @abstractmethod
    def open(self, location: Location, readonly: bool = False) -> Database:
        """Open a database. Raises SiteError, or NoSuchDatabase where its server does not have it."""

    def place_of(self, location: Location) -> str:
        """What a voyage remembers of where a copy's tables are."""
        return str(location.url.database)

    def at_place(self, location: Location, place: str) -> Location:
        """A location with the place that a voyage remembers, reached as the given one is."""
        return replace(location, url=location.url.set(database=place))

    def create(self, location: Location) -> Database:
        """Open a place for filling; a file is made here."""
        return self.open(location)

    # --- places for copies

    @abstractmethod
    def beside(self, live: Location, home: AnyPath, target: AnyPath, name: str) -> Location:
        """Where a copy's tables go when nothing is asked for. home: the folder of live's configuration. target: the
        copy's. name: the copy's."""

    @abstractmethod
    def asked(self, live: Location, wanted: str | None, prefix: str | None, folder: AnyPath) -> Location:
        """Where a copy's tables go when a URL or a prefix is asked for. folder: of its machine, where a relative path
        starts. Raises SiteError."""

    @abstractmethod
    def make_place(self, live: Location, wanted: Location, asked: bool, fallback: str) -> CopyPlace:
        """Make a place for a copy, as far as it must be made before it is opened.

        asked: the user named the place; where not, and the rights do not allow a new database, tables in live's
        database under the prefix `fallback` are taken instead. Raises SiteError when it is taken or cannot be had.
        """

    def remove_begun(self, location: Location) -> list[str]:
        """Remove a database that may have been made for a copy, as long as nothing is in it. Returns what is."""
        return []

    @abstractmethod
    def remove_place(self, location: Location, made: MadePlace, tables: Collection[str], user: str) -> list[str]:
        """Remove what was made for a place. Returns the names of tables beside it that had to be left.

        tables: the full names of what was made in a database that is not the copy's alone. user: the one who was made
        for it, as name@host. Raises SiteError when the place cannot be reached.
        """

    @abstractmethod
    def check_free(self, location: Location) -> None:
        """Raise SiteError unless a site can be made there: no file yet, or an empty database."""

    # --- a site's tables as a whole

    def lock(self, location: Location) -> ServerLock | None:
        """Hold the site's tables in the server, for whoever works on them from another machine. Raises Held. None: the
        lock on the site's folder is enough."""
        return None

    def unfinished(self, location: Location) -> list[str]:
        """What `ServerLock.write_mark` has left there, read without holding anything."""
        return []

    @abstractmethod
    def swap(self, location: Location, folder: Path, mark: str) -> Swap:
        """How all tables are put in place at once. folder: a private one, of the operation's. mark: its name."""

    @abstractmethod
    def check_outline(self, outline: Outline) -> None:
        """Raise SiteError when a statement of an outline does more than make one thing in its own database."""

    def script(self, outline: Outline) -> Iterator[str]:
        """The schema as statements, for people."""
        yield from ()

    # --- what columns hold

    def widens(self, old: Column, new: Column) -> bool:
        """Whether every value of the old column fits into the new one."""
        return column_types.widens(old, new)

    def default_value(self, column: Column) -> Value:
        """A column's default as its rows have it, where it is a plain literal; else None."""
        return column_types.default_value(column)

    def placeholders(self, column: Column) -> Iterator[Value]:
        """Values that a row may have for a moment inside a transaction, the least likely ones first."""
        return column_types.placeholders(column)


_engines: dict[str, Engine] = {}


def register(made: Engine) -> None:
    """Make an engine known, by its name."""
    _engines[made.name] = made


def engine(name: str) -> Engine:
    """The engine of this name. Raises SiteError when there is none."""
    if name not in _engines:
        _find(name, lambda: name in _engines)
    if name not in _engines:
        raise SiteError(f"Databases of the kind {name} are not supported by this version.",
                        next_step=f"It works on {', '.join(e.title for e in _every() if e.schemes)}.")
    return _engines[name]


def _find(called: str = "", enough: Callable[[], bool] = lambda: False) -> None:
    """Import engines: each registers itself, and some bring a driver along, which takes a while. called: which of them
    comes first. enough: whether that was enough."""
    names = [m.name for m in pkgutil.iter_modules(importlib.import_module(_ENGINES).__path__) if m.ispkg]
    for name in sorted(names, key=lambda n: (n != called, n)):
        if importlib.util.find_spec(f"{_ENGINES}.{name}.engine") is not None:
            importlib.import_module(f"{_ENGINES}.{name}.engine")
            if enough():
                return
    from importlib import metadata

    for point in metadata.entry_points(group="nostos.engines"):
        point.load()


def _of_scheme(scheme: str) -> Engine | None:
    def known() -> Engine | None:
        return next((e for e in _engines.values() if scheme in e.schemes), None)

    if known() is None:
        _find(scheme, lambda: known() is not None)
    return known()


def _every() -> list[Engine]:
    _find()
    return sorted(_engines.values(), key=lambda e: e.name)


def locate(url: str, folder: AnyPath, prefix: str = "") -> Location:
    """The location that a URL names; a relative path starts at `folder`. Raises SiteError when it is none."""
    if url == NONE:
        return Location(DatabaseUrl(NONE))
    try:
        parsed = read_url(url)
        name = parsed.drivername.partition("+")[0]
    except ValueError:
        # The URL itself is not repeated: it may hold a password.
        examples = " or ".join(e.example for e in _every() if e.example)
        raise SiteError("The database URL cannot be read.", next_step=f"Write it like {examples}.") from None
    check_prefix(prefix)
    engine_of_url = _of_scheme(name) or engine(name)
    return Location(engine_of_url.parse(parsed, folder), prefix, host_of(folder))


def check_prefix(prefix: str) -> str:
    """A prefix of tables' names. Raises SiteError when it is none."""
    if not _PREFIX.fullmatch(prefix):
        raise SiteError(f"{prefix!r} is not a table prefix.", next_step="Use letters, digits and underlines.")
    return prefix
