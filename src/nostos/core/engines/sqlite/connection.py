"""SQLite behind the protocol. Reflection goes through SQLAlchemy, rows through the driver's own cursor."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence

from nostos.core.database import definitions
from nostos.core.database.outline import Outline, Trigger
from nostos.core.database.protocol import Database, EngineCaution, InsideCopy
from nostos.core.database.schema import Table
from nostos.core.engines.sqlite.inside_copy import SqliteInsideCopy
from nostos.core.engines.sqlite.session import quote
from nostos.core.engines.sqlite.writing import SqliteWriting
from nostos.core.hosts.far_path import AnyPath, FarPath, on_machine

_SETTINGS = ("encoding", "page_size", "auto_vacuum", "application_id", "user_version", "journal_mode")


class SqliteDatabase(SqliteWriting):
    """A SQLite file. readonly opens it so that nothing at all can be written; create makes it, private, first."""

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
        for name, sql in outline.virtual:
            self._run(definitions.whole(sql, "sqlite", "virtual table", name))
        for table in outline.tables:
            self.create_table(table)

    def copy_inside(self, source: Database, tables: Sequence[Table],
                    replaced: Sequence[tuple[str, str]] = (), seed: int | None = None, quick: bool = False
                    ) -> InsideCopy | None:
        if not isinstance(source, SqliteDatabase):
            return None
        mine, theirs = self.path, source.path
        if not isinstance(mine, FarPath) or not isinstance(theirs, FarPath) or mine.host != theirs.host:
            return None
        return SqliteInsideCopy(self, theirs, tables, replaced)

    def finish(self, outline: Outline) -> None:
        if self._run("SELECT 1 FROM sqlite_master WHERE name='sqlite_sequence'").fetchone():
            self._run("DELETE FROM sqlite_sequence")
            self._driver.many("INSERT INTO sqlite_sequence VALUES (?, ?)", list(outline.counters.items()))
        for name, sql in outline.views:
            self._run(definitions.whole(sql, "sqlite", "view", name))
        for trigger in outline.triggers:
            self._run(definitions.whole(trigger.body, "sqlite", "trigger", trigger.name))
        self._run("PRAGMA foreign_keys = ON")

    def replace_from(self, file: AnyPath, check: Callable[[Database], None], last: Callable[[], object]) -> None:
        """Take over every table, index, view and trigger of another file, in one transaction; tables that it does not
        have stay. check: is given this database with everyone else kept from writing. last: done before the commit.
        """
        self._run("PRAGMA foreign_keys = OFF")
        quoted_path = on_machine(file).replace("'", "''")
        self._run(f"ATTACH DATABASE '{quoted_path}' AS incoming")
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
                    self._run(definitions.whole(sql, "sqlite", "virtual table" if wanted else "table", name))
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
            for what, name, sql in coming:
                if what == kind:
                    self._run(definitions.whole(sql, "sqlite", kind, name))

    def warnings(self) -> Iterator[EngineCaution]:
        if self.journal_mode() != "wal":
            yield EngineCaution(f"The database's journal mode is {self.journal_mode()}, not wal.",
                          "While a clone reads, whoever writes to live has to wait.",
                          "Run PRAGMA journal_mode = wal on it once, or clone at a quiet hour.")
        virtual = self.virtual_tables()
        if virtual:
            yield EngineCaution(f"Search indexes and the like are not compared: {', '.join(virtual)}.",
                          "They hold no data of their own; triggers keep them up to date.",
                          "Rebuild them after a merge if no trigger does.")
