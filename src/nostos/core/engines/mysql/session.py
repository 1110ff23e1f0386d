"""A connection to a server: statements, transactions, the schema."""

from __future__ import annotations

import importlib
import secrets
from collections.abc import Iterator, Sequence
from contextlib import contextmanager, suppress
from functools import cached_property
from typing import Any

from nostos.core.database.registry import Location
from nostos.core.database.schema import Table, Value
from nostos.core.engines.held_lock import MARKS
from nostos.core.engines.mysql import connect as connecting
from nostos.core.engines.mysql.reflection import REFLECTION, quote, table_of
from nostos.core.engines.mysql.row_sql import READERS, RowSql, as_text, bound
from nostos.core.engines.server_session import COPY, ServerSession
from nostos.core.errors import NostosError

_LOCK_WAIT_SECONDS = 1  # while this waits for a row, visitors wait for those that it has
_IDLE_SECONDS = 86400
_SLOW_SECONDS = 3600
_NAMES = "SELECT table_name FROM information_schema.tables WHERE table_schema = %s"
_SET_OPTION = 0x1B
_IN_ONE = 64  # statements of a request
_FIRST, _BATCH_ROWS, _BATCH_BYTES = 16, 2000, 4_000_000  # of what is fetched at once
PROGRAMS = ("SELECT 'view', table_name, table_name FROM information_schema.views WHERE table_schema = %s UNION ALL "
            "SELECT 'trigger', trigger_name, event_object_table FROM information_schema.triggers "
            "WHERE trigger_schema = %s UNION ALL SELECT 'routine', routine_name, '' FROM information_schema.routines "
            "WHERE routine_schema = %s")  # what is defined beside tables: kind, name, and the table that it is of


class MysqlSession(ServerSession):
    """One database of a server, seen through a table prefix."""

    transactional_schema = False
    locks_late = True

    def __init__(self, location: Location, readonly: bool = False) -> None:
        self.location = location
        self.prefix = location.prefix
        self.name = str(location.url.database)
        self.url = location.shown
        self.driver = connecting.driver()
        self._connection = connecting.connect(location, self.driver)
        # A server may end connections that idle for a few seconds, as ours do while files are copied.
        settings = ["SET SESSION sql_mode = 'NO_AUTO_VALUE_ON_ZERO,ALLOW_INVALID_DATES', time_zone = '+00:00', "
                    f"SESSION innodb_lock_wait_timeout = {_LOCK_WAIT_SECONDS}, "
                    f"SESSION group_concat_max_len = 1048576, SESSION wait_timeout = {_IDLE_SECONDS}, "
                    f"SESSION net_write_timeout = {_SLOW_SECONDS}, SESSION net_read_timeout = {_SLOW_SECONDS}",
                    "SET SESSION TRANSACTION ISOLATION LEVEL REPEATABLE READ"]
        if readonly:
            settings.append("SET SESSION TRANSACTION READ ONLY")
        settings.append("SELECT @@lower_case_table_names")
        self._settings = settings  # said with what is asked first
        self._folds = False  # whether the server writes the names of tables in small letters, or compares them so
        self._sql: dict[str, RowSql] = {}
        self._nowait: bool | None = None
        self._programs: list[tuple[Any, ...]] | None = None  # what `PROGRAMS` says, while a snapshot is read
        self._every: frozenset[str] = frozenset()  # the names of all tables that there are, once they are known

    @staticmethod
    def quoted(name: str) -> str:
        return quote(name)

    def close(self) -> None:
        with suppress(self.driver.MySQLError):
            self._connection.close()

    def _cursor(self, sql: str, values: Sequence[Value] = (), stream: bool = False) -> Any:
        if self._settings:
            self.run_all([])
        kind: Any = None
        if stream:
            kind = importlib.import_module(f"{self.driver.__name__}.cursors").SSCursor
        cursor = self._connection.cursor(kind) if kind else self._connection.cursor()
        cursor.execute(sql, [bound(v) for v in values] if values else ())
        return cursor

    def run(self, sql: str, values: Sequence[Value] = ()) -> list[tuple[Any, ...]]:
        """Run a statement; its result as text (or bytes where it is not text)."""
        cursor = self._cursor(sql, values)
        try:
            return [tuple(as_text(v) for v in row) for row in cursor.fetchall()] if cursor.description else []
        finally:
            cursor.close()

    def run_one(self, sql: str) -> None:
        """Run what may come out of a file: one statement, and no more."""
        self.run_all([])
        self._several(False)
        try:
            self.run(sql.replace("%", "%%"))
        finally:
            self._several(True)

    def _several(self, so: bool) -> None:
        """Let the server take several statements in one request, or not: COM_SET_OPTION of the protocol."""
        if self.driver.__name__ == "pymysql":
            self._connection._execute_command(_SET_OPTION, (0 if so else 1).to_bytes(2, "little"))
            self._connection._read_packet()
        else:
            self._connection.set_server_option(0 if so else 1)

    def run_all(self, statements: Sequence[tuple[str, Sequence[Value]]]) -> list[list[tuple[Any, ...]]]:
        results: list[list[tuple[Any, ...]]] = []
        settings, self._settings = [(sql, ()) for sql in self._settings], []
        statements = [*settings, *statements]
        for at in range(0, len(statements), _IN_ONE):
            part = statements[at:at + _IN_ONE]
            cursor = self._cursor(";\n".join(sql for sql, _ in part), [v for _, values in part for v in values])
            try:
                more: Any = True
                while more:
                    rows = cursor.fetchall() if cursor.description else ()
                    results.append([tuple(as_text(v) for v in row) for row in rows])
                    more = cursor.nextset()
            finally:
                cursor.close()
        if settings:
            self._folds = str(results[len(settings) - 1][0][0]) != "0"
        return results[len(settings):]

    def _batches(self, sql: str, values: Sequence[Value]) -> Iterator[Sequence[tuple[Any, ...]]]:
        """A statement's rows, streamed, as many at once as take a few megabytes."""
        cursor = self._cursor(sql, values, stream=True)
        count = _FIRST
        broken = False
        try:
            while True:
                try:
                    batch = cursor.fetchmany(count)
                except self.driver.MySQLError:
                    broken = True
                    raise
                if not batch:
                    break
                yield batch
                size = sum(len(v) for row in batch[:_FIRST] for v in row if v is not None) // min(len(batch), _FIRST)
                count = max(1, min(_BATCH_BYTES // (size + 1), 2 * count, _BATCH_ROWS))
        finally:
            if broken:  # what comes of tidying up after that says nothing of the cause
                with suppress(self.driver.MySQLError):
                    cursor.close()
            else:  # what is left must be read before the connection can be used again
                while cursor.fetchmany(_FIRST):
                    pass
                cursor.close()

    def _stream(self, sql: str, values: Sequence[Value], kinds: Sequence[str]) -> Iterator[tuple[Value, ...]]:
        readers = [READERS[k] for k in kinds]
        for batch in self._batches(sql, values):
            # A column at a time: that costs a third of a row at a time.
            yield from zip(*[read(column) for read, column in zip(readers, zip(*batch, strict=True), strict=True)],
                           strict=True)

    def has_table(self, table: str) -> bool:
        return bool(self.run("SELECT 1 FROM information_schema.tables WHERE table_schema = %s AND table_name = %s",
                             (self.name, self.prefix + table)))

    def version(self) -> str:
        version = str(self.run("SELECT VERSION()")[0][0])
        return version if "MariaDB" in version else f"MySQL {version}"

    def _reflected(self) -> dict[str, Table]:
        return self._read_out(self.run_all(self._asked()))

    def _asked(self) -> list[tuple[str, Sequence[Value]]]:
        return [(sql, (self.name,)) for sql in (_NAMES, *REFLECTION.values())]

    def _read_out(self, answers: Sequence[list[tuple[Any, ...]]]) -> dict[str, Table]:
        """The tables out of what the server says to `_asked`."""
        info: dict[str, dict[str, list[tuple[Any, ...]]]] = {}
        names, *row = answers
        self._every = frozenset(n for (n,) in names)
        self.__dict__.pop("_foreign", None)
        for what, rows in zip(REFLECTION, row, strict=True):
            for name, *rest in rows:
                if self.holds(name) and name[len(self.prefix):] not in (MARKS, COPY):
                    info.setdefault(name[len(self.prefix):], {}).setdefault(what, []).append(tuple(rest))
        infos = {name: table for name, table in sorted(info.items()) if "table" in table}
        made = self.run_all([(f"SHOW CREATE TABLE {self.real(name)}", ()) for name in infos])
        return {name: table_of(name, self.prefix, str(rows[0][1]), table)
                for (name, table), rows in zip(infos.items(), made, strict=True)}

    def _of(self, table: Table) -> RowSql:
        """The SQL for a table's rows, made once."""
        sql = self._sql.get(table.name)
        if sql is None or sql.table is not table:
            sql = self._sql[table.name] = RowSql(table, self.real(table.name))
        return sql

    def definition(self, table: str) -> str:
        """The statement that makes the table, as the server writes it."""
        return str(self.run(f"SHOW CREATE TABLE {self.real(table)}")[0][1])

    def _names(self) -> list[str]:
        return [n for n in self.all_names() if self.holds(n)]

    def all_names(self) -> list[str]:
        return [n for (n,) in self.run(_NAMES, (self.name,))]

    def holds(self, name: str) -> bool:
        """Whether a table, by its full name, is the site's own: it begins with the prefix, and not with the longer
        one of another site."""
        prefix, foreign = self.prefix, self._foreign
        if self._folds:
            name, prefix, foreign = name.lower(), prefix.lower(), tuple(f.lower() for f in foreign)
        return name.startswith(prefix) and not name.startswith(foreign)

    @cached_property
    def _foreign(self) -> tuple[str, ...]:
        """The prefixes of other sites that begin with this one: of copies, by their mark, and of what has all that a
        site of this system has."""
        every = self._every or frozenset(self.all_names())
        copies = {n[:-len(COPY)] for n in every if n.endswith(COPY)}
        for name in every if self.location.own_set else ():
            if name.endswith(self.location.own_set[0]):
                prefix = name[:-len(self.location.own_set[0])]
                if all(prefix + part in every for part in self.location.own_set):
                    copies.add(prefix)
        mine = self.prefix.lower() if self._folds else self.prefix
        return tuple(sorted(p for p in copies if len(p) > len(mine) and (p.lower() if self._folds else p).startswith(
            mine)))

    @contextmanager
    def reading(self) -> Iterator[None]:
        _, self._programs, *variable = self.run_all([
            ("START TRANSACTION WITH CONSISTENT SNAPSHOT, READ ONLY", ()), (PROGRAMS, (self.name,) * 3),
            *self._asked()])
        try:
            with self._one_state(lambda: self._read_out(variable)):
                yield
        finally:
            self._programs = None
            with suppress(self.driver.MySQLError):  # a connection that is gone holds no snapshot
                self.run("ROLLBACK")

    @contextmanager
    def writing(self, unchecked: bool = False, late: bool = False) -> Iterator[None]:
        with self._committing("START TRANSACTION", self.driver.MySQLError):
            yield

    def explained(self, error: BaseException, at: str = "") -> NostosError | None:
        return connecting.explained(self.driver, error, at)


def same_server(one: MysqlSession, other: MysqlSession) -> bool:
    """Whether two connections lead to one server, however they are written: a lock that one takes, the other sees."""
    name = f"nostos:{secrets.token_hex(16)}"
    if str(one.run("SELECT GET_LOCK(%s, 0)", (name,))[0][0]) != "1":
        return False
    try:
        return str(other.run("SELECT IS_FREE_LOCK(%s)", (name,))[0][0]) == "0"
    finally:
        one.run("SELECT RELEASE_LOCK(%s)", (name,))
