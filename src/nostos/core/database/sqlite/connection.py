"""SQLite behind the protocol. Reflection goes through SQLAlchemy, rows through the driver's own cursor."""

from __future__ import annotations

import re
import sqlite3
from collections.abc import Callable, Collection, Iterable, Iterator, Mapping, Sequence
from contextlib import contextmanager
from pathlib import Path
from typing import Any
from urllib.parse import quote as url_quote

import sqlalchemy as sa

from nostos.core.database.outline import Outline, Trigger, reached
from nostos.core.database.protocol import Block, Caution, Database, ForeignColumn
from nostos.core.database.rows.block_sums import Sums
from nostos.core.database.rows.digests import block_of, pack, row_digest
from nostos.core.database.schema import Column, ForeignKey, Key, Row, Table, Value
from nostos.core.errors import Disturbed, MergeRefused, NostosError, SiteError

_LOCK_WAIT_SECONDS = 10.0
_AT_ONCE = 500  # values in one statement
_MAGIC = b"SQLite format 3\x00"
_SETTINGS = ("encoding", "page_size", "auto_vacuum", "application_id", "user_version", "journal_mode")


def quote(name: str) -> str:
    """An identifier, quoted for SQL."""
    return '"' + name.replace('"', '""') + '"'


def _text(data: bytes) -> str:
    return data.decode("utf-8", "surrogateescape")


def _bound(value: Value) -> tuple[str, Value]:
    """Placeholder and value; text that is not valid UTF-8 goes through as bytes that SQLite calls text."""
    if isinstance(value, str):
        try:
            value.encode()
        except UnicodeEncodeError:
            return "CAST(? AS TEXT)", value.encode("utf-8", "surrogateescape")
    return "?", value


def check_file(path: Path) -> None:
    """Raise SiteError unless this is a database file that can be read."""
    if not path.exists():
        raise SiteError(f"There is no database at {path}.", next_step="Check the database path in the configuration.")
    if not path.is_file():
        raise SiteError(f"{path} is not a file, so it is not a SQLite database.", next_step="Check the database path.")
    try:
        with path.open("rb") as file:
            head = file.read(16)
    except OSError as error:
        raise SiteError(f"The database {path} cannot be read: {error.strerror}.",
                        next_step="Give your user the right to read it.") from error
    if head != _MAGIC:
        raise SiteError(f"{path} is not a SQLite database.", next_step="Check the database path in the configuration.")


class SqliteDatabase(Database):
    """A SQLite file. readonly opens it so that nothing at all can be written; create makes it, private, first."""

    scans_for_children = True

    def __init__(self, path: Path, readonly: bool = False, create: bool = False) -> None:
        if create:
            path.parent.mkdir(parents=True, exist_ok=True)
            path.touch(mode=0o600, exist_ok=False)
        else:
            check_file(path)
        self.path = path
        self.url = f"sqlite:///{path}"
        mode = "ro" if readonly else "rw"

        def connect() -> sqlite3.Connection:
            # The driver must not open transactions on its own (isolation_level None): ours are explicit.
            connection = sqlite3.connect(f"file:{url_quote(str(path))}?mode={mode}", uri=True,
                                         timeout=_LOCK_WAIT_SECONDS, isolation_level=None)
            connection.text_factory = _text
            connection.execute("PRAGMA foreign_keys = ON")
            return connection

        self._engine = sa.create_engine("sqlite://", creator=connect, poolclass=sa.pool.StaticPool)
        try:
            self._connection = self._engine.connect()
            self._driver: sqlite3.Connection = self._connection.connection.dbapi_connection  # type: ignore[assignment]
            self._driver.execute("SELECT count(*) FROM sqlite_master").fetchone()
        except (sa.exc.DatabaseError, sqlite3.DatabaseError) as error:
            raise SiteError(f"The database {path} cannot be opened: {getattr(error, 'orig', None) or error}.",
                            next_step="Check the file and your rights to it.") from error

    def close(self) -> None:
        self._connection.close()
        self._engine.dispose()
        self._driver.close()

    def _run(self, sql: str, values: Sequence[Value] = ()) -> sqlite3.Cursor:
        return self._driver.execute(sql, tuple(values))

    def version(self) -> str:
        return f"SQLite {sqlite3.sqlite_version}"

    def journal_mode(self) -> str:
        return str(self._run("PRAGMA journal_mode").fetchone()[0])

    # --- reflection

    def tables(self) -> dict[str, Table]:
        inspector = sa.inspect(self._connection)
        inspector.clear_cache()
        names = [r[0] for r in self._run(
            "SELECT name FROM sqlite_master WHERE type='table' AND name NOT LIKE 'sqlite\\_%' ESCAPE '\\' "
            "AND sql NOT LIKE 'CREATE VIRTUAL%' ORDER BY name")]
        shadows = self._shadows("main")
        return {n: self._table(inspector, n) for n in names if n not in shadows}

    def _shadows(self, schema: str) -> set[str]:
        """The tables in which virtual tables keep what they know. A table that is merely called so is none."""
        if sqlite3.sqlite_version_info >= (3, 37):
            return {r[1] for r in self._run(f"PRAGMA {schema}.table_list").fetchall()
                    if r[0] == schema and r[2] == "shadow"}
        made = self._run(f"SELECT name, sql FROM {schema}.sqlite_master WHERE type='table'").fetchall()
        virtual = {n: sql.lower() for n, sql in made if sql and sql.upper().startswith("CREATE VIRTUAL")}
        parts = {"fts5": ("data", "idx", "content", "docsize", "config"), "rtree": ("node", "parent", "rowid"),
                 "fts": ("content", "segments", "segdir", "docsize", "stat")}
        return {f"{v}_{part}" for v, sql in virtual.items() for module, names in parts.items() if module in sql
                for part in names} & {n for n, _ in made}

    def virtual_tables(self) -> list[str]:
        """Names of virtual tables (search indexes and the like), which hold no data of their own."""
        return [r[0] for r in self._run(
            "SELECT name FROM sqlite_master WHERE type='table' AND sql LIKE 'CREATE VIRTUAL%'")]

    def _table(self, inspector: Any, name: str) -> Table:
        info = self._run(f"PRAGMA table_xinfo({quote(name)})").fetchall()
        columns = tuple(Column(r[1], r[2], not r[3], r[4], generated=r[6] in (2, 3)) for r in info if r[6] != 1)
        key = tuple(r[1] for r in sorted((r for r in info if r[5]), key=lambda r: r[5]))
        ddl = self._run("SELECT sql FROM sqlite_master WHERE type='table' AND name=?", (name,)).fetchone()[0]
        uniques = []
        for _, index, is_unique, origin, partial, *_ in self._run(f"PRAGMA index_list({quote(name)})").fetchall():
            if is_unique and origin != "pk" and not partial:
                names = [r[2] for r in self._run(f"PRAGMA index_info({quote(index)})")]
                if all(n is not None for n in names):
                    uniques.append(tuple(names))
        if not key:
            # A unique index over columns that are never empty tells rows apart as well as a key does.
            solid = {c.name for c in columns if not c.nullable}
            key = next((u for u in uniques if set(u) <= solid), ())
        foreign = []
        for fk in inspector.get_foreign_keys(name):
            targets = tuple(fk["referred_columns"])
            if not targets:  # SQLite lets the target columns be left out: its primary key is meant
                targets = tuple(inspector.get_pk_constraint(fk["referred_table"])["constrained_columns"])
            foreign.append(ForeignKey(tuple(fk["constrained_columns"]), fk["referred_table"], targets))
        # One INTEGER PRIMARY KEY is the row's own number, which SQLite gives out by itself; unless it is the number
        # of another table's row.
        surrogate = (len(key) == 1 and any(r[5] and r[1] == key[0] and r[2].upper() == "INTEGER" for r in info)
                     and all(fk.columns != key for fk in foreign))
        indexes = tuple((r[0], r[1]) for r in self._run(
            "SELECT name, sql FROM sqlite_master WHERE type='index' AND tbl_name=? AND sql IS NOT NULL ORDER BY name",
            (name,)))
        return Table(name, columns, key, surrogate, tuple(uniques), tuple(foreign), ddl, indexes)

    # --- transactions

    @contextmanager
    def reading(self) -> Iterator[None]:
        self._run("BEGIN")
        try:
            self._run("SELECT count(*) FROM sqlite_master").fetchone()  # the snapshot starts with the first read
            yield
        finally:
            self._run("ROLLBACK")

    @contextmanager
    def writing(self, unchecked: bool = False) -> Iterator[None]:
        if unchecked:
            self._run("PRAGMA foreign_keys = OFF")
        try:
            yield from self._writing()
        finally:
            if unchecked:
                self._run("PRAGMA foreign_keys = ON")

    def _writing(self) -> Iterator[None]:
        try:
            self._run("BEGIN IMMEDIATE")
        except sqlite3.OperationalError as error:
            said = self.explained(error)
            if isinstance(said, Disturbed):
                raise said from error
            raise MergeRefused(f"The database {self.path.name} cannot be written: {error}.",
                               next_step="See to your rights there and to free space, and try again.") from error
        try:
            # References are checked when the transaction ends, so that rows may arrive in any order.
            self._run("PRAGMA defer_foreign_keys = ON")
            yield
            self._run("COMMIT")
        except BaseException as error:
            if self._driver.in_transaction:
                self._run("ROLLBACK")
            said = self.explained(error)
            if said is not None:
                raise said from error
            raise

    # --- reading

    def count(self, table: str) -> int:
        return int(self._run(f"SELECT count(*) FROM {quote(table)}").fetchone()[0])

    def scan(self, table: Table, columns: Sequence[str]) -> Iterator[tuple[Value, ...]]:
        have = set(table.names)
        wanted = ", ".join(quote(c) if c in have else "NULL" for c in columns)
        cursor = self._run(f"SELECT {wanted} FROM {quote(table.name)}")
        while batch := cursor.fetchmany(500):
            yield from batch

    def scan_payloads(self, table: Table) -> Iterator[tuple[int, bytes]]:
        places = [table.stored.index(k) for k in table.key]
        for values in self.scan(table, table.stored):
            yield block_of(tuple([values[p] for p in places])), pack(values)

    def blocks(self, table: Table, columns: Sequence[str]) -> dict[int, Block]:
        sums = Sums()
        for key, digest in self.row_digests(table, columns):
            sums.add(block_of(key), digest)
        return sums.blocks()

    def row_digests(self, table: Table, columns: Sequence[str],
                    numbers: Collection[int] | None = None) -> Iterator[tuple[Key, bytes]]:
        wanted = None if numbers is None else set(numbers)
        for values in self.scan(table, [*table.key, *columns]):
            key = values[:len(table.key)]
            if wanted is None or block_of(key) in wanted:
                yield key, row_digest(values[len(table.key):])

    def fetch_many(self, table: Table, keys: Sequence[Key]) -> Iterator[Row]:
        for key in keys:
            yield from self.find(table, dict(zip(table.key, key, strict=True)))

    def rows_where_set(self, table: Table, columns: Sequence[Column]) -> Iterator[Row]:
        tests = " OR ".join(f"{quote(c.name)} IS NOT ({c.default or 'NULL'})" for c in columns)
        yield from self._rows(table, tests, ())

    def _rows(self, table: Table, where: str, values: Sequence[Value]) -> Iterator[Row]:
        names = table.stored
        wanted = ", ".join(quote(n) for n in names)
        cursor = self._run(f"SELECT {wanted} FROM {quote(table.name)} WHERE {where}", values)
        while batch := cursor.fetchmany(500):
            for row in batch:
                yield dict(zip(names, row, strict=True))

    def _matching(self, values: Mapping[str, Value]) -> tuple[str, list[Value]]:
        tests, bound = [], []
        for name, value in values.items():
            mark, plain = _bound(value)
            tests.append(f"{quote(name)} IS {mark}")
            bound.append(plain)
        return " AND ".join(tests) or "1", bound

    def fetch(self, table: Table, key: Key) -> Row | None:
        return next(iter(self.find(table, dict(zip(table.key, key, strict=True)))), None)

    def find(self, table: Table, values: Mapping[str, Value]) -> list[Row]:
        where, bound = self._matching(values)
        return list(self._rows(table, where, bound))

    @staticmethod
    def _texts(table: Table, where: Mapping[str, str]) -> tuple[str, list[Value]]:
        names = [c for c in where if table.column(c) is not None]
        return "".join(f"CAST({quote(c)} AS TEXT) = ? AND " for c in names), [where[c] for c in names]

    def find_any(self, table: Table, column: str, values: Sequence[Value], where: Mapping[str, str]) -> Iterator[Row]:
        more, texts = self._texts(table, where)
        for at in range(0, len(values), _AT_ONCE):
            part = values[at:at + _AT_ONCE]
            yield from self._rows(table, f"{more}{quote(column)} IN ({', '.join('?' * len(part))})", [*texts, *part])

    def mentioning(self, table: Table, column: str, numbers: Collection[int], where: Mapping[str, str]
                   ) -> Iterator[Row]:
        more, texts = self._texts(table, where)
        wanted = {str(n) for n in numbers}

        def mentions(text: object) -> bool:
            return isinstance(text, str) and not wanted.isdisjoint(re.findall(r"\d+", text))

        self._driver.create_function("nostos_mentions", 1, mentions, deterministic=True)
        yield from self._rows(table, f"{more}nostos_mentions(CAST({quote(column)} AS TEXT))", texts)

    def top(self, table: Table) -> int | None:
        found = self._run(f"SELECT MAX({quote(table.key[0])}) FROM {quote(table.name)}").fetchone()[0]
        return found if isinstance(found, int) else None

    def above(self, table: Table, key: int) -> Iterator[Row]:
        yield from self._rows(table, f"{quote(table.key[0])} > ?", [key])

    def side_effects(self, written: Mapping[str, Collection[str]]) -> set[str]:
        found = self._run("SELECT tbl_name, sql FROM sqlite_master WHERE type='trigger' AND sql IS NOT NULL").fetchall()
        triggers = []
        for of, sql in found:
            event = re.search(r"\b(INSERT|UPDATE|DELETE)\b", sql, re.IGNORECASE)
            triggers.append(Trigger("", of, "", event.group(1).upper() if event else "", sql))
        if not triggers:
            return set()
        names = [n for (n,) in self._run("SELECT name FROM sqlite_master WHERE type='table'")]
        return reached(triggers, written, {n: n for n in names})

    def explained(self, error: BaseException, at: str = "") -> NostosError | None:
        if not isinstance(error, sqlite3.Error):
            return None
        where = f" at {at}" if at else ""
        if "locked" in str(error) or "busy" in str(error):
            return Disturbed(f"The database {self.path.name} is being written by others{where}: {error}.",
                             left="Nothing of it was changed.",
                             next_step="Wait until other programs have let go of it, and try again.")
        return MergeRefused(f"The database refused the changes{where}: {error}.", left="They were all taken back.",
                            next_step=f"Look at {at}, or leave it out." if at else "Look at what the message names.")

    def broken_references(self, table: Table) -> Iterator[tuple[Key, ForeignColumn]]:
        by_id = {r[0]: r for r in self._run(f"PRAGMA foreign_key_list({quote(table.name)})").fetchall()}
        for _, rowid, parent, fk_id in self._run(f"PRAGMA foreign_key_check({quote(table.name)})").fetchall():
            column = by_id[fk_id][3] if fk_id in by_id else "?"
            yield (rowid,), ForeignColumn(table.name, column, parent)

    # --- writing

    def insert(self, table: Table, row: Row) -> Key:
        marks, bound = [], []
        for value in row.values():
            mark, plain = _bound(value)
            marks.append(mark)
            bound.append(plain)
        names = ", ".join(quote(n) for n in row)
        sql = f"({names}) VALUES ({', '.join(marks)})" if row else "DEFAULT VALUES"
        cursor = self._run(f"INSERT INTO {quote(table.name)} {sql}", bound)
        if table.surrogate and table.key[0] not in row:
            return (cursor.lastrowid,)
        return table.key_of(row)

    def update(self, table: Table, key: Key, values: Row) -> None:
        if not values:
            return
        sets, bound = [], []
        for name, value in values.items():
            mark, plain = _bound(value)
            sets.append(f"{quote(name)} = {mark}")
            bound.append(plain)
        where, which = self._matching(dict(zip(table.key, key, strict=True)))
        done = self._run(f"UPDATE {quote(table.name)} SET {', '.join(sets)} WHERE {where}", bound + which)
        if done.rowcount != 1:
            raise sqlite3.IntegrityError(f"{table.name} has {done.rowcount} rows with key {key!r}, not one")

    def remove(self, table: Table, key: Key) -> None:
        where, which = self._matching(dict(zip(table.key, key, strict=True)))
        done = self._run(f"DELETE FROM {quote(table.name)} WHERE {where}", which)
        if done.rowcount != 1:
            raise sqlite3.IntegrityError(f"{table.name} has {done.rowcount} rows with key {key!r}, not one")

    def recount(self, table: Table, column: str, counted: Table, by: str, where: Mapping[str, Value], key: Key,
                through: tuple[Table, str, Mapping[str, Value]] | None = None) -> None:
        tests, bound = self._matching(where)
        if through is not None:
            other, points, wanted = through
            more, values = self._matching(wanted)
            tests += (f" AND {quote(points)} IN (SELECT {quote(other.key[0])} FROM {quote(other.name)} WHERE {more})")
            bound += values
        which, keys = self._matching(dict(zip(table.key, key, strict=True)))
        self._run(f"UPDATE {quote(table.name)} SET {quote(column)} = (SELECT COUNT(*) FROM {quote(counted.name)} "
                  f"WHERE {quote(by)} IS ? AND {tests}) WHERE {which}", [key[0], *bound, *keys])

    def clear(self, table: str, column: str | None = None, patterns: Sequence[str] = ()) -> None:
        if column is None:
            self._run(f"DELETE FROM {quote(table)}")
            return
        for pattern in patterns:
            like = pattern.replace("|", "||").replace("%", "|%").replace("_", "|_").replace("*", "%")
            self._run(f"DELETE FROM {quote(table)} WHERE {quote(column)} LIKE ? ESCAPE '|'", [like])

    def mark(self, table: str, name: str, when: str) -> None:
        self._run(f"CREATE TABLE IF NOT EXISTS {quote(table)} (merge_id TEXT PRIMARY KEY, at TEXT NOT NULL)")
        self._run(f"INSERT INTO {quote(table)} VALUES (?, ?)", (name, when))

    # --- schema: DDL is read from the other side's schema and carried, never from a value

    def create_table(self, table: Table) -> None:
        self._run(table.ddl)
        for name, ddl in table.indexes:
            self.create_index(table.name, name, ddl)

    def change_column(self, table: Table, column: Column) -> None:
        """By the schema table, as SQLite's documentation on altering tables has it for changes that leave the content
        on disk as it is."""
        reason = self.cannot_change(table)
        if reason is not None:
            raise MergeRefused(reason, next_step="Make the change on live by hand, then merge.")
        version = self._run("PRAGMA schema_version").fetchone()[0]
        self._run("PRAGMA writable_schema = ON")
        try:
            self._run("UPDATE sqlite_master SET sql=? WHERE type='table' AND name=?", (table.ddl, table.name))
            self._run(f"PRAGMA schema_version = {version + 1}")
        finally:
            self._run("PRAGMA writable_schema = OFF")

    def cannot_change(self, table: Table) -> str | None:
        mine = self.tables().get(table.name)
        if mine is None or mine.names != table.names:
            return (f"SQLite cannot define a column of {table.name} anew where its columns are others than in staging, "
                    "or stand in another order")
        return None

    def has_null(self, table: Table, column: str) -> bool:
        found = self._run(f"SELECT 1 FROM {quote(table.name)} WHERE {quote(column)} IS NULL LIMIT 1").fetchone()
        return found is not None

    def has_duplicates(self, table: Table, columns: Sequence[str]) -> bool:
        names = ", ".join(quote(c) for c in columns)
        full = " AND ".join(f"{quote(c)} IS NOT NULL" for c in columns)
        return self._run(f"SELECT 1 FROM {quote(table.name)} WHERE {full} GROUP BY {names} HAVING count(*) > 1 LIMIT 1"
                         ).fetchone() is not None

    def add_column(self, table: Table, column: Column) -> None:
        rest = "" if column.nullable else " NOT NULL"
        if column.default is not None:
            rest += f" DEFAULT {column.default}"
        self._run(f"ALTER TABLE {quote(table.name)} ADD COLUMN {quote(column.name)} {column.declared}{rest}")

    def create_index(self, table: str, name: str, ddl: str) -> None:
        self._run(ddl)

    # --- cloning

    def outline(self) -> Outline:
        entries = self._run("SELECT type, name, tbl_name, sql FROM sqlite_master "
                            "WHERE name NOT LIKE 'sqlite\\_%' ESCAPE '\\' AND sql IS NOT NULL").fetchall()
        virtual = self.virtual_tables()
        shadows = self._shadows("main")
        has_counters = self._run("SELECT 1 FROM sqlite_master WHERE name='sqlite_sequence'").fetchone()
        return Outline(
            "sqlite", "", "", tuple(self.tables().values()),
            {p: self._run(f"PRAGMA {p}").fetchone()[0] for p in _SETTINGS},
            tuple((n, sql) for t, n, _, sql in entries if t == "table" and n in virtual), tuple(sorted(shadows)),
            tuple((n, sql) for t, n, _, sql in entries if t == "view"),
            tuple(Trigger(n, of, "", "", sql) for t, n, of, sql in entries if t == "trigger"),
            dict(self._run("SELECT name, seq FROM sqlite_sequence").fetchall()) if has_counters else {})

    def build(self, outline: Outline) -> None:
        for pragma, value in outline.settings.items():
            if pragma in _SETTINGS and isinstance(value, int | str):
                self._run(f"PRAGMA {pragma} = " + (str(value) if isinstance(value, int) else
                                                   "'" + value.replace("'", "''") + "'"))
        self._run("PRAGMA foreign_keys = OFF")
        # A virtual table makes its shadow tables itself; after that they are filled like any other.
        for _, sql in outline.virtual:
            self._run(sql)
        for table in outline.tables:
            self.create_table(table)

    def raw_rows(self, name: str) -> Iterator[tuple[Value, ...]]:
        cursor = self._run(f"SELECT * FROM {quote(name)}")
        while batch := cursor.fetchmany(500):
            yield from batch

    def put_raw(self, name: str, rows: Iterable[Sequence[Value]]) -> None:
        self._run(f"DELETE FROM {quote(name)}")
        columns = len(self._run(f"PRAGMA table_info({quote(name)})").fetchall())
        self._driver.executemany(f"INSERT INTO {quote(name)} VALUES ({', '.join('?' * columns)})", rows)

    def insert_many(self, table: Table, columns: Sequence[str], rows: Sequence[tuple[Value, ...]]) -> None:
        names = ", ".join(quote(c) for c in columns)
        for row in rows:
            marks = ", ".join(_bound(v)[0] for v in row)
            self._run(f"INSERT INTO {quote(table.name)} ({names}) VALUES ({marks})", [_bound(v)[1] for v in row])

    def replace_many(self, table: Table, columns: Sequence[str], rows: Sequence[tuple[Value, ...]]) -> None:
        places = [columns.index(k) for k in table.key]
        for row in rows:
            where, which = self._matching(dict(zip(table.key, (row[p] for p in places), strict=True)))
            self._run(f"DELETE FROM {quote(table.name)} WHERE {where}", which)
        self.insert_many(table, columns, rows)

    def finish(self, outline: Outline) -> None:
        if self._run("SELECT 1 FROM sqlite_master WHERE name='sqlite_sequence'").fetchone():
            self._run("DELETE FROM sqlite_sequence")
            self._driver.executemany("INSERT INTO sqlite_sequence VALUES (?, ?)", list(outline.counters.items()))
        for sql in (*(sql for _, sql in outline.views), *(t.body for t in outline.triggers)):
            self._run(sql)
        self._run("PRAGMA foreign_keys = ON")

    def replace_from(self, file: Path, check: Callable[[Database], None], last: Callable[[], object]) -> None:
        """Take over every table, index, view and trigger of another file, in one transaction; tables that it does not
        have stay. check: is given this database with everyone else kept from writing. last: done before the commit.
        """
        self._run("PRAGMA foreign_keys = OFF")
        self._run("ATTACH DATABASE ? AS incoming", (str(file),))
        try:
            with self.writing():
                check(self)
                self._take_over()
                last()
        finally:
            self._run("DETACH DATABASE incoming")
            self._run("PRAGMA foreign_keys = ON")

    def _take_over(self) -> None:
        def things(where: str) -> list[tuple[str, str, str]]:
            return self._run(f"SELECT type, name, sql FROM {where}.sqlite_master WHERE sql IS NOT NULL "
                             "AND name NOT LIKE 'sqlite\\_%' ESCAPE '\\'").fetchall()

        def is_virtual(sql: str) -> bool:
            return sql.upper().startswith("CREATE VIRTUAL")

        coming = things("incoming")
        raw = self._shadows("incoming")
        names = {n for _, n, _ in coming}
        for kind in ("trigger", "view", "table"):
            for what, name, _ in sorted(things("main"), key=lambda thing: not is_virtual(thing[2])):
                if what == kind and name in names and self._run(
                        "SELECT 1 FROM main.sqlite_master WHERE type=? AND name=?", (what, name)).fetchone():
                    self._run(f"DROP {kind.upper()} {quote(name)}")
        for wanted in (True, False):
            for what, name, sql in coming:
                if what == "table" and is_virtual(sql) is wanted and name not in raw:
                    self._run(sql)
        for what, name, sql in coming:
            if what == "table" and not is_virtual(sql):
                info = self._run(f"PRAGMA incoming.table_xinfo({quote(name)})").fetchall()
                columns = ", ".join(quote(r[1]) for r in info if r[6] == 0)
                if name in raw:
                    self._run(f"DELETE FROM main.{quote(name)}")
                self._run(f"INSERT INTO main.{quote(name)} ({columns}) SELECT {columns} FROM incoming.{quote(name)}")
        if self._run("SELECT 1 FROM incoming.sqlite_master WHERE name='sqlite_sequence'").fetchone():
            self._run("DELETE FROM main.sqlite_sequence WHERE name IN (SELECT name FROM incoming.sqlite_sequence)")
            self._run("INSERT INTO main.sqlite_sequence SELECT name, seq FROM incoming.sqlite_sequence")
        for kind in ("index", "view", "trigger"):
            for what, _, sql in coming:
                if what == kind:
                    self._run(sql)

    def drop(self, what: str, table: str, name: str) -> None:
        if what == "column":
            self._run(f"ALTER TABLE {quote(table)} DROP COLUMN {quote(name)}")
        else:
            self._run(f"DROP {what.upper()} {quote(name)}")

    def warnings(self) -> Iterator[Caution]:
        if self.journal_mode() != "wal":
            yield Caution(f"The database's journal mode is {self.journal_mode()}, not wal.",
                          "While a clone reads, whoever writes to live has to wait.",
                          "Run PRAGMA journal_mode = wal on it once, or clone at a quiet hour.")
        virtual = self.virtual_tables()
        if virtual:
            yield Caution(f"Search indexes and the like are not compared: {', '.join(virtual)}.",
                          "They hold no data of their own; triggers keep them up to date.",
                          "Rebuild them after a merge if no trigger does.")
