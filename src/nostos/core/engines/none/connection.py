"""The database of a site that has none: files only."""

from __future__ import annotations

from collections.abc import Collection, Iterator, Mapping, Sequence
from contextlib import contextmanager

from nostos.core.database.outline import Outline
from nostos.core.database.protocol import Block, Database, ForeignColumn
from nostos.core.database.schema import Column, Key, Row, Table, Value


class NoDatabase(Database):
    """It has no tables, so nothing is ever read from it or written to it."""

    url = ""

    def close(self) -> None:
        return

    def version(self) -> str:
        return "no database"

    def tables(self) -> dict[str, Table]:
        return {}

    @contextmanager
    def reading(self) -> Iterator[None]:
        yield

    @contextmanager
    def writing(self, unchecked: bool = False, late: bool = False) -> Iterator[None]:
        yield

    def count(self, table: str) -> int:
        return 0

    def scan(self, table: Table, columns: Sequence[str]) -> Iterator[tuple[Value, ...]]:
        yield from ()

    def scan_payloads(self, table: Table) -> Iterator[tuple[int, bytes]]:
        yield from ()

    def blocks(self, table: Table, columns: Sequence[str]) -> dict[int, Block]:
        return {}

    def row_digests(self, table: Table, columns: Sequence[str],
                    numbers: Collection[int] | None = None) -> Iterator[tuple[Key, bytes]]:
        yield from ()

    def fetch_many(self, table: Table, keys: Sequence[Key]) -> Iterator[Row]:
        yield from ()

    def rows_where_set(self, table: Table, columns: Sequence[Column]) -> Iterator[Row]:
        yield from ()

    def fetch(self, table: Table, key: Key) -> Row | None:
        return None

    def find(self, table: Table, values: Mapping[str, Value]) -> list[Row]:
        return []

    def find_any(self, table: Table, column: str, values: Sequence[Value], where: Mapping[str, str]) -> Iterator[Row]:
        yield from ()

    def mentioning(self, table: Table, column: str, numbers: Collection[int], where: Mapping[str, str],
                   words: Collection[str] = ()) -> Iterator[Row]:
        yield from ()

    def top(self, table: Table) -> int | None:
        return None

    def above(self, table: Table, key: int) -> Iterator[Row]:
        yield from ()

    def side_effects(self, written: Mapping[str, Collection[str]]) -> set[str]:
        return set()

    def broken_references(self, table: Table) -> Iterator[tuple[Key, ForeignColumn]]:
        yield from ()

    def clear(self, table: str, column: str | None = None, patterns: Sequence[str] = ()) -> None:
        return

    def mark(self, table: str, name: str, when: str) -> None:
        return

    def outline(self) -> Outline:
        return Outline("none")

    def build(self, outline: Outline) -> None:
        return

    def finish(self, outline: Outline) -> None:
        return

    def insert(self, table: Table, row: Row) -> Key:
        raise LookupError(table.name)

    def insert_many(self, table: Table, columns: Sequence[str], rows: Sequence[tuple[Value, ...]]) -> None:
        raise LookupError(table.name)

    def replace_many(self, table: Table, columns: Sequence[str], rows: Sequence[tuple[Value, ...]]) -> None:
        raise LookupError(table.name)

    def update(self, table: Table, key: Key, values: Row) -> None:
        raise LookupError(table.name)

    def remove(self, table: Table, key: Key) -> None:
        raise LookupError(table.name)

    def recount(self, table: Table, column: str, counted: Table, by: str, where: Mapping[str, Value],
                keys: Sequence[Value], through: tuple[Table, str, Mapping[str, Value]] | None = None) -> None:
        raise LookupError(table.name)

    def create_table(self, table: Table) -> None:
        raise LookupError(table.name)

    def add_column(self, table: Table, column: Column, filled: Value = None) -> None:
        raise LookupError(table.name)

    def change_column(self, table: Table, column: Column) -> None:
        raise LookupError(table.name)

    def create_index(self, table: str, name: str, ddl: str) -> None:
        raise LookupError(table)

    def drop(self, what: str, table: str, name: str) -> None:
        raise LookupError(table)
