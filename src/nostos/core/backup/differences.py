"""What differs between a backup and a site as it is now, row by row, without holding either in memory."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import field

from nostos.core.backup.archive import ArchiveReader
from nostos.core.backup.contents import Contents, Rows, read
from nostos.core.clone.copy_rows import Localiser
from nostos.core.database.protocol import AT_ONCE, Database
from nostos.core.database.rows.block_sums import Sums
from nostos.core.database.rows.digests import block_of
from nostos.core.database.rows.row_bytes import RowForm, row_form
from nostos.core.database.schema import Key, Row, Table, Value
from nostos.core.patterns import matches
from nostos.core.profiles.compared import OWN_TABLES, compared_tables, is_local
from nostos.core.profiles.model import Profile
from nostos.core.progress import Listener, silent
from nostos.core.records import dataclass
from nostos.core.sites.effective_profile import effective_profile
from nostos.core.sites.recognise import Site


@dataclass(frozen=True)
class RowDifference:
    """A row that is not the same in a backup and on live; None: it is not there."""

    table: str
    key: Key
    then: Row | None
    now: Row | None


@dataclass
class _Shared:
    """A table that both have, over the columns that both have."""

    mine: Table
    live: Table
    columns: tuple[str, ...]
    form: RowForm
    sums: Sums = field(default_factory=Sums)
    known: dict[Key, bytes] = field(default_factory=dict)
    numbers: set[int] = field(default_factory=set)

    def key_of(self, values: Sequence[Value]) -> Key:
        return tuple(values[self.mine.stored.index(k)] for k in self.live.key)

    def payload(self, values: Sequence[Value]) -> bytes:
        return self.form.write([values[self.mine.stored.index(c)] for c in self.columns])


class Differences:
    """The differing rows of the tables whose rows count. Made inside a `reading` of the database.

    missing, columns: tables and columns of the backup that live does not have. gained: tables that live has and the
    backup does not.
    contents: all of the backup, verified, once the differences were asked for.
    """

    def __init__(self, reader: ArchiveReader, contents: Contents, site: Site, database: Database, local: Localiser,
                 tell: Listener = silent) -> None:
        self.reader = reader
        self.contents = contents
        self.database = database
        self.local = local
        self.tell = tell
        tables = database.tables()
        self.profile: Profile = effective_profile(site, {**{t.name: t for t in contents.outline.tables}, **tables})
        self.tables: Mapping[str, Table] = tables
        then = {t.name for t in contents.outline.tables}
        self.missing = tuple(sorted(n for n in then if n not in tables and not matches(n, OWN_TABLES)))
        self.columns = tuple(f"{t.name}.{c}" for t in contents.outline.tables if t.name in tables
                             for c in t.names if tables[t.name].column(c) is None)
        compared = compared_tables(self.profile, tables)
        self.gained = tuple(sorted(n for n in compared if n not in then))
        self._shared: dict[str, _Shared] = {}
        for table in contents.outline.tables:
            live = compared.get(table.name)
            if live is not None and set(live.key) <= set(table.stored):
                columns = tuple(c for c in live.stored if c in table.stored)
                self._shared[table.name] = _Shared(table, live, columns, row_form(live, columns))

    def __iter__(self) -> Iterator[RowDifference]:
        """Differing rows of both, table by table; at the end those that only live has. Raises BackupError."""
        self._find_blocks()
        changes: dict[str, list[tuple[Key, Row]]] = {}

        def rows(table: Table, some: Rows) -> None:
            shared = self._shared.get(table.name)
            for values in some if shared is not None else ():
                assert shared is not None
                key = shared.key_of(values)
                if block_of(key) not in shared.numbers:
                    continue
                values = self.local.change(table, values)
                same = shared.known.pop(key, None)
                if same != shared.form.digest(shared.payload(values)):
                    row = dict(zip(table.stored, values, strict=True))
                    changes.setdefault(table.name, []).append((key, {c: row[c] for c in shared.columns}))

        if any(s.numbers for s in self._shared.values()):
            read(self.reader, rows, tell=self.tell,
                 wanted=lambda name: name in self._shared and bool(self._shared[name].numbers))
        for name, rows_then in changes.items():
            for at in range(0, len(rows_then), AT_ONCE):
                yield from self._both(self._shared[name], rows_then[at:at + AT_ONCE])
        for shared in self._shared.values():
            left = list(shared.known)
            for at in range(0, len(left), AT_ONCE):
                for now in self.database.fetch_many(shared.live, left[at:at + AT_ONCE]):
                    if self._counts(shared.live, now):
                        yield RowDifference(shared.live.name, shared.live.key_of(now), None, now)

    def _both(self, shared: _Shared, some: Sequence[tuple[Key, Row]]) -> Iterator[RowDifference]:
        """What differs of rows that the backup has, held against live's."""
        rows = {shared.live.key_of(row): row for row in self.database.fetch_many(shared.live, [k for k, _ in some])}
        for key, then in some:
            now = rows.get(key)
            if not self._counts(shared.live, now or then) or now == then:
                continue
            if now is not None:  # a column that came later stays as it is
                then = {**{c: v for c, v in now.items() if c not in shared.columns}, **then}
            yield RowDifference(shared.live.name, key, then, now)

    def _find_blocks(self) -> None:
        def rows(table: Table, some: Rows) -> None:
            shared = self._shared.get(table.name)
            for values in some if shared is not None else ():
                assert shared is not None
                values = self.local.change(table, values)
                shared.sums.add(block_of(shared.key_of(values)), shared.form.digest(shared.payload(values)))

        self.contents = read(self.reader, rows, tell=self.tell, wanted=lambda name: name in self._shared)
        for shared in self._shared.values():
            live = self.database.blocks(shared.live, shared.columns)
            then = shared.sums.blocks()
            shared.numbers = {n for n in live.keys() | then.keys() if live.get(n) != then.get(n)}
            if shared.numbers:
                shared.known = dict(self.database.row_digests(shared.live, shared.columns, shared.numbers))
            shared.sums = Sums()

    def _counts(self, table: Table, row: Row) -> bool:
        return not is_local(self.profile, table, row)

    def owner(self, difference: RowDifference) -> RowDifference | None:
        """The row, as live has it, that a differing one is a part of, such as the order of a line; None: it stands by
        itself, or what it was a part of is not on live."""
        row = difference.now or difference.then or {}
        child = self.profile.child_of(difference.table, row)
        table = self.tables.get(child.owner) if child is not None else None
        if child is None or table is None or len(table.key) != 1:
            return None
        key: Key = (row.get(child.of),)
        now = self.database.fetch(table, key)
        return RowDifference(table.name, key, now, now) if now is not None else None

    def kind(self, difference: RowDifference) -> str:
        """What a person would call the row: its kind, or the table that it is in."""
        row = difference.now or difference.then or {}
        if self.profile.child_of(difference.table, row) is None:
            kind = self.profile.kind_of(difference.table, row)
            if kind is not None:
                return kind.named(row)
        return difference.table

    def is_part(self, difference: RowDifference) -> bool:
        """Whether a row is a part of something else."""
        return self.profile.child_of(difference.table, difference.now or difference.then or {}) is not None
