"""A connection to a PostgreSQL server: statements, transactions, the schema."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from contextlib import contextmanager, suppress
from itertools import count
from typing import Any

import psycopg
from psycopg.pq import ExecStatus, TransactionStatus

from nostos.core.database.registry import Location
from nostos.core.database.schema import Table, Value
from nostos.core.engines.held_lock import MARKS
from nostos.core.engines.postgresql import connect as connecting
from nostos.core.engines.postgresql.reflection import HERE, STATEMENTS, not_brought, quote, tables_of
from nostos.core.engines.postgresql.row_sql import RowSql
from nostos.core.engines.server_session import COPY, ServerSession
from nostos.core.errors import NostosError, SiteError
from nostos.core.expressions import expression

_QUOTED = expression("'(?:[^']|'')*'" '|"(?:[^"]|"")*"')  # a text, or a name
_LOCK_WAIT = "1s"  # while this waits for a row, visitors wait for those that it has
_FETCH = 2000

# Where things are looked for: what is named, or else the first schema of the server's path, then where extensions are.
# So both sides write down what extensions brought in the same words, wherever that is.
_PATH = ("SELECT set_config('search_path', concat_ws(', ', CASE WHEN {named} THEN "
         "current_setting('search_path') ELSE "
         "quote_ident(current_schema()) END, (SELECT string_agg(DISTINCT quote_ident(n.nspname), ', ') FROM "
         "pg_extension x JOIN pg_namespace n ON n.oid = x.extnamespace WHERE n.nspname NOT LIKE 'pg\\_%' "
         "AND n.nspname <> current_schema())), false)")
# The server's own path, for triggers: they may write to what is elsewhere on it.
_WAS = "SELECT array_to_string(ARRAY(SELECT quote_ident(s) FROM unnest(current_schemas(false)) s), ', ')"


def _given(sql: str, values: Sequence[Value] = (None,)) -> bytes:
    """A statement as the driver takes it with values: a percent sign in a name, or in a text, stands for itself."""
    return (_QUOTED.sub(lambda m: m.group().replace("%", "%%"), sql) if values else sql).encode()


class PostgresSession(ServerSession):
    """One schema of a server's database, seen through a table prefix."""

    locks_late = moves_on = True
    holds_parents = False  # what others do with these rows, but for removing them, goes on

    def __init__(self, location: Location, readonly: bool = False) -> None:
        self.location = location
        self.prefix = location.prefix
        self.name = str(location.url.database)
        self.schema = str(location.url.query.get("schema") or "")
        self.url = location.shown
        self._connection = connecting.connect(location)
        self._names = count()
        self._sql: dict[str, RowSql] = {}
        self._inherited: set[str] | None = None
        try:
            if self.run("SELECT pg_backend_pid()")[0][0] != self._connection.info.backend_pid:
                # Who answers is not who was connected to. What a session is set to, and a lock on the site, would be
                # lost after each transaction, or kept for somebody else.
                raise SiteError(f"There is a pooler between here and the database {location.shown}.",
                                next_step="Name the server itself, in a site file: its host and port.")
            # A server may end transactions that idle, as ours do while files are renamed.
            timeouts = {"lock_timeout": _LOCK_WAIT, "statement_timeout": "0",
                        "idle_in_transaction_session_timeout": "0"}
            settings = [f"SET {name} = '{value}'" for name, value in (*connecting.SETTINGS, *timeouts.items())]
            if self.schema:
                settings.append(f"SET search_path = {', '.join(quote(s) for s in self.schema.split(','))}")
            if readonly:
                settings.append("SET default_transaction_read_only = on")
            *_, schema, encoding, was, path = self.run_all([(sql, ()) for sql in (
                *settings, "SELECT current_schema()", "SHOW server_encoding", _WAS, self._path())])
            self._schema = str(schema[0][0])
            self._whole_path = "" if self.schema else f"{path[0][0]}, {was[0][0]}"
            if schema[0][0] is None:
                raise SiteError(f"The database {location.shown} has no such schema.",
                                next_step="Check `schema` in the database's URL.")
            if encoding[0][0] != "UTF8":
                raise SiteError(f"The database {location.shown} is not kept in UTF-8.",
                                next_step="Only databases in UTF-8 can be worked on.")
        except psycopg.Error as error:
            self._connection.close()
            raise SiteError(f"The database {location.shown} cannot be used: {str(error).splitlines()[0]}.",
                            next_step="See to the database server.") from error
        except BaseException:
            self._connection.close()
            raise

    def _path(self) -> str:
        return _PATH.format(named="true" if "," in self.schema else "false")

    def look_again(self) -> None:
        """Look for what extensions have brought since."""
        self.run(self._path())

    @staticmethod
    def quoted(name: str) -> str:
        return quote(name)

    def close(self) -> None:
        with suppress(psycopg.Error):
            self._connection.close()

    def text(self, sql: str, values: Sequence[Value] = ()) -> str:
        """A statement with its values in it, quoted by the driver."""
        return psycopg.ClientCursor(self._connection).mogrify(_given(sql), values) if values else sql

    def run(self, sql: str, values: Sequence[Value] = ()) -> list[tuple[Any, ...]]:
        """Run a statement; its rows."""
        with self._connection.cursor() as cursor:
            cursor.execute(_given(sql, values), values or None)
            return cursor.fetchall() if cursor.description else []

    def run_one(self, sql: str) -> None:
        """Run what may come out of a file: by the protocol's way that takes one statement and no more."""
        result = self._connection.pgconn.exec_params(sql.encode(), None)
        if result.status not in (ExecStatus.COMMAND_OK, ExecStatus.TUPLES_OK, ExecStatus.EMPTY_QUERY):
            raise psycopg.errors.error_from_result(result, "utf-8")

    def run_all(self, statements: Sequence[tuple[str, Sequence[Value]]]) -> list[list[tuple[Any, ...]]]:
        cursors = []
        with self._connection.pipeline():
            for sql, values in statements:
                cursors.append(self._connection.cursor())
                cursors[-1].execute(_given(sql, values), values or None)
        return [c.fetchall() if c.description else [] for c in cursors]

    def changed(self, sql: str, values: Sequence[Value] = ()) -> int:
        """Run a statement. Returns how many rows it touched."""
        with self._connection.cursor() as cursor:
            cursor.execute(_given(sql, values), values or None)
            return cursor.rowcount

    @property
    def in_transaction(self) -> bool:
        return self._connection.info.transaction_status is not TransactionStatus.IDLE

    def stream(self, sql: str, values: Sequence[Value] = ()) -> Iterator[tuple[Any, ...]]:
        """A statement's rows, fetched some thousands at a time."""
        outside = not self.in_transaction
        name = f"nostos_{next(self._names)}"
        if outside:
            self.run("BEGIN READ ONLY")
        try:
            fetch = f"FETCH FORWARD {_FETCH} FROM {name}"
            _, rows = self.run_all([(f"DECLARE {name} NO SCROLL CURSOR FOR {self.text(sql, values)}", ()),
                                    (fetch, ())])
            yield from rows
            while len(rows) == _FETCH:
                rows = self.run(fetch)
                yield from rows
        finally:
            with suppress(psycopg.Error):
                if outside:
                    self.run("COMMIT")
                elif self._connection.info.transaction_status is TransactionStatus.INTRANS:
                    self.run(f"CLOSE {name}")

    def has_table(self, table: str) -> bool:
        return bool(self.run(f"SELECT 1 FROM pg_class WHERE relnamespace = {HERE} "
                             "AND relname = %s", (self.prefix + table,)))

    def version(self) -> str:
        return f"PostgreSQL {self.run('SHOW server_version')[0][0]}"

    @property
    def number(self) -> int:
        """The server's version: 150004 is 15.4."""
        return self._connection.info.server_version

    def _reflected(self) -> dict[str, Table]:
        return tables_of(self.run_all([(sql, ()) for sql in STATEMENTS]), self.prefix,
                         (self.prefix + MARKS, self.prefix + COPY))

    def all_names(self) -> list[str]:
        return [str(n) for (n,) in self.run(
            f"SELECT c.relname FROM pg_class c WHERE c.relnamespace = {HERE} AND c.relkind IN ('r', 'p', 'v', 'm') "
            f"AND {not_brought('c.oid', 'pg_class')}")]

    def real(self, table: str) -> str:
        return self.in_schema(self.prefix + table)

    def in_schema(self, name: str) -> str:
        """The full name of anything in the schema, quoted."""
        return f"{quote(self._schema)}.{quote(name)}"

    def held(self, table: str) -> str:
        """A table's full name for what is done to its own rows: not to those of tables that inherit from it."""
        if self._inherited is None:
            self._inherited = {str(n) for (n,) in self.run(
                f"SELECT relname FROM pg_class WHERE relnamespace = {HERE} AND relkind = 'r' AND relhassubclass")}
        return ("ONLY " if self.prefix + table in self._inherited else "") + self.real(table)

    def _of(self, table: Table) -> RowSql:
        """The SQL for a table's rows, made once."""
        sql = self._sql.get(table.name)
        if sql is None or sql.table is not table:
            sql = self._sql[table.name] = RowSql(table, self.held(table.name))
        return sql

    @contextmanager
    def reading(self) -> Iterator[None]:
        self.run_all([("BEGIN ISOLATION LEVEL REPEATABLE READ READ ONLY", ()), ("SELECT 1", ())])
        try:
            with self._one_state(self._reflected):
                yield
        finally:
            with suppress(psycopg.Error):
                self.run("ROLLBACK")

    @contextmanager
    def writing(self, unchecked: bool = False, late: bool = False) -> Iterator[None]:
        level = "READ COMMITTED" if late else "REPEATABLE READ"
        with self._committing(f"BEGIN ISOLATION LEVEL {level}", psycopg.Error):
            self.run("SET CONSTRAINTS ALL DEFERRED")
            if self._whole_path:
                self.run(f"SET LOCAL search_path = {self._whole_path}")
            yield

    def explained(self, error: BaseException, at: str = "") -> NostosError | None:
        return connecting.explained(error, at)
