"""All tables of a site on a server replaced at once."""

from __future__ import annotations

from collections.abc import Callable, Collection
from dataclasses import replace

from nostos.core.database.outline import Outline
from nostos.core.database.protocol import Database
from nostos.core.database.registry import Location, Swap
from nostos.core.engines.mysql import build
from nostos.core.engines.mysql.connection import MysqlDatabase
from nostos.core.engines.mysql.places import wipe
from nostos.core.engines.mysql.reflection import quote
from nostos.core.errors import MergeRefused

_WAIT_SECONDS = 3
_TRIES = 5


class TablesSwap(Swap):
    """A server: filled under another prefix in the same database, renamed in one statement, which the server does
    whole. A table of its own is renamed with them, first of all: by its name one tells whether that came to pass."""

    MARKER = "nostos_restore"
    finishes_later = True

    def __init__(self, location: Location, mark: str) -> None:
        self.location = location
        digits = mark[-4:]
        self.new, self.old = (replace(location, prefix=f"n{what}{digits}_") for what in "wo")

    def load(self) -> Database:
        self.discard()
        database = self._open(self.new)
        database.beside = self.location.prefix
        database.run(f"CREATE TABLE {database.real(self.MARKER)} (id int PRIMARY KEY) ENGINE=InnoDB")
        return database

    def commit(self, tables: Collection[str], check: Callable[[Database], None], last: Callable[[], None]) -> None:
        database = self._open(self.location)
        try:
            self._check_others(database, tables)
            last()
            database.run(f"SET SESSION lock_wait_timeout = {_WAIT_SECONDS}")
            for attempt in range(1, _TRIES + 1):
                mark = (quote(self.new.prefix + self.MARKER), quote(self.old.prefix + self.MARKER))
                moves = [mark, *self._moves(database, tables)]
                try:
                    database.run("RENAME TABLE " + ", ".join(f"{a} TO {b}" for a, b in moves))
                    break
                except database.driver.MySQLError as error:
                    if error.args[0] != 1205 or attempt == _TRIES:  # 1205: somebody held one of them
                        raise MergeRefused(f"The server would not put the tables in place: {error.args[-1]}.",
                                           next_step="Try again at a quieter hour.") from error
        finally:
            database.close()

    def _check_others(self, database: MysqlDatabase, tables: Collection[str]) -> None:
        """Tables that stay must not point at ones that are replaced: the server would let them follow the old ones."""
        names = {self.location.prefix + t for t in tables}
        for child, target in database.run(
                "SELECT table_name, referenced_table_name FROM information_schema.key_column_usage "
                "WHERE table_schema = %s AND referenced_table_schema = table_schema", (database.name,)):
            if target in names and child not in names and not child.startswith((self.new.prefix, self.old.prefix)):
                raise MergeRefused(f"The table {child}, which the backup does not have, points at {target}.",
                                   next_step=f"Drop {child}, or its foreign key, then restore again.")

    def _moves(self, database: MysqlDatabase, tables: Collection[str]) -> list[tuple[str, str]]:
        """What is left to be renamed: each old table out of the way of its new one."""
        names = self._names(database)
        moves = []
        for name in sorted(tables):
            moved, new, old = (where.prefix + name for where in (self.location, self.new, self.old))
            if new in names:
                moves += [(quote(moved), quote(old))] if moved in names else []
                moves.append((quote(new), quote(moved)))
        return moves

    def _names(self, database: MysqlDatabase) -> set[str]:
        return {n for (n,) in database.run("SELECT table_name FROM information_schema.tables WHERE table_schema = %s",
                                           (database.name,))}

    def committed(self) -> bool:
        database = self._open(self.location)
        try:
            # One statement renames all; a server that crashed in it may have done some, from the first on.
            return self.old.prefix + self.MARKER in self._names(database)
        finally:
            database.close()

    def finish(self, outline: Outline, tables: Collection[str]) -> None:
        database = self._open(self.location)
        try:
            moves = self._moves(database, tables)
            if moves:
                database.run("RENAME TABLE " + ", ".join(f"{a} TO {b}" for a, b in moves))
            # Triggers went with the old tables, and their names with them; views go by the tables' names.
            for (name,) in database.run("SELECT trigger_name FROM information_schema.triggers WHERE trigger_schema = %s"
                                        " AND LEFT(event_object_table, %s) = %s",
                                        (database.name, len(self.old.prefix), self.old.prefix)):
                database.run(f"DROP TRIGGER {quote(name)}")
            for trigger in outline.triggers:  # made already, by a run that was cut short
                name = build.trigger_name(outline, database, trigger)
                database.run(f"DROP TRIGGER IF EXISTS {quote(name)}")
            build.make_triggers(database, outline)
            build.make_views(database, outline)
            old = self._open(self.old)
            try:
                build.drop_keys(old)
            finally:
                old.close()
            build.name_keys(database, outline)
        finally:
            database.close()

    def replaced(self) -> Location | None:
        return self.old

    def discard(self) -> None:
        database = self._open(self.location)
        try:
            mark = self.old.prefix + self.MARKER
            ours = [n for n in self._names(database) if n.startswith((self.new.prefix, self.old.prefix)) and n != mark]
            wipe(database, ours)
            wipe(database, [mark])  # last: what is left of a replacement that came to pass is known by it
        finally:
            database.close()

    @staticmethod
    def _open(location: Location) -> MysqlDatabase:
        return MysqlDatabase(location)
