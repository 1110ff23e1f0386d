"""A tiny engine that Nostos does not bring along: tables as JSON in a file. It shows what an engine has to answer."""

from __future__ import annotations

import json
import re
from collections.abc import Callable, Collection, Iterator, Mapping, Sequence
from contextlib import contextmanager
from pathlib import Path
from typing import Any

import msgspec

from nostos.core.database.outline import Outline
from nostos.core.database.protocol import Block, Database, ForeignColumn
from nostos.core.database.registry import CopyPlace, Engine, Location, Swap
from nostos.core.database.rows.block_sums import Sums
from nostos.core.database.rows.digests import block_of, row_digest
from nostos.core.database.schema import Column, Key, Row, Table, Value
from nostos.core.database.url import DatabaseUrl
from nostos.core.values.packed import pack


class TinyDatabase(Database):
    def __init__(self, path: Path) -> None:
        self.path, self.url = path, f"tiny:///{path}"
        self.data: dict[str, Any] = json.loads(path.read_text())
        self.inside = False

    def close(self) -> None:
        return

    def version(self) -> str:
        return "Tiny 1"

    def _save(self) -> None:
        if not self.inside:
            self.path.write_text(json.dumps(self.data))

    def tables(self) -> dict[str, Table]:
        return {name: msgspec.convert(said["table"], Table) for name, said in sorted(self.data.items())}

    @contextmanager
    def reading(self) -> Iterator[None]:
        self.data = json.loads(self.path.read_text())
        yield

    @contextmanager
    def writing(self, unchecked: bool = False, late: bool = False) -> Iterator[None]:
        self.data = json.loads(self.path.read_text())
        self.inside = True
        try:
            yield
        except BaseException:
            self.data = json.loads(self.path.read_text())
            raise
        finally:
            self.inside = False
        self._save()

    def _rows(self, table: str) -> list[Row]:
        found: list[Row] = self.data[table]["rows"] if table in self.data else []
        return found

    def _some(self, table: Table, test: Callable[[Row], bool]) -> Iterator[Row]:
        yield from [{c: r.get(c) for c in table.names} for r in self._rows(table.name) if test(r)]

    def count(self, table: str) -> int:
        return len(self._rows(table))

    def scan(self, table: Table, columns: Sequence[str]) -> Iterator[tuple[Value, ...]]:
        yield from [tuple(r.get(c) for c in columns) for r in self._rows(table.name)]

    def scan_payloads(self, table: Table) -> Iterator[tuple[int, bytes]]:
        for row in self._some(table, lambda _: True):
            yield block_of(table.key_of(row)), pack([row[c] for c in table.stored])

    def row_digests(self, table: Table, columns: Sequence[str],
                    numbers: Collection[int] | None = None) -> Iterator[tuple[Key, bytes]]:
        for row in self._some(table, lambda r: numbers is None or block_of(table.key_of(r)) in numbers):
            yield table.key_of(row), row_digest([row.get(c) for c in columns])

    def blocks(self, table: Table, columns: Sequence[str]) -> dict[int, Block]:
        sums = Sums()
        for key, digest in self.row_digests(table, columns):
            sums.add(block_of(key), digest)
        return sums.blocks()

    def fetch_many(self, table: Table, keys: Sequence[Key]) -> Iterator[Row]:
        return self._some(table, lambda r: table.key_of(r) in {tuple(k) for k in keys})

    def rows_where_set(self, table: Table, columns: Sequence[Column]) -> Iterator[Row]:
        return self._some(table, lambda r: any(r.get(c.name) is not None for c in columns))

    def fetch(self, table: Table, key: Key) -> Row | None:
        return next(self.fetch_many(table, [key]), None)

    def find(self, table: Table, values: Mapping[str, Value]) -> list[Row]:
        return list(self._some(table, lambda r: all(r.get(c) == v for c, v in values.items())))

    def find_any(self, table: Table, column: str, values: Sequence[Value], where: Mapping[str, str]) -> Iterator[Row]:
        return self._some(table, lambda r: r.get(column) in values)

    def mentioning(self, table: Table, column: str, numbers: Collection[int], where: Mapping[str, str],
                   words: Collection[str] = ()) -> Iterator[Row]:
        wanted = {str(n) for n in numbers}
        return self._some(table, lambda r: not wanted or not wanted.isdisjoint(re.findall(r"\d+", str(r.get(column)))))

    def top(self, table: Table) -> int | None:
        return max((int(str(r[table.key[0]])) for r in self._rows(table.name)), default=None)

    def above(self, table: Table, key: int) -> Iterator[Row]:
        return self._some(table, lambda r: int(str(r[table.key[0]])) > key)

    def side_effects(self, written: Mapping[str, Collection[str]]) -> set[str]:
        return set()

    def broken_references(self, table: Table) -> Iterator[tuple[Key, ForeignColumn]]:
        yield from ()

    def insert(self, table: Table, row: Row) -> Key:
        held = self.data[table.name]
        if table.surrogate and table.key[0] not in row:
            row = {**row, table.key[0]: held["next"]}
        if table.surrogate:
            held["next"] = max(held["next"], int(str(row[table.key[0]])) + 1)
        held["rows"].append(row)
        self._save()
        return table.key_of(row)

    def insert_many(self, table: Table, columns: Sequence[str], rows: Sequence[tuple[Value, ...]]) -> None:
        for row in rows:
            self.insert(table, dict(zip(columns, row, strict=True)))

    def replace_many(self, table: Table, columns: Sequence[str], rows: Sequence[tuple[Value, ...]]) -> None:
        for row in rows:
            self.remove(table, table.key_of(dict(zip(columns, row, strict=True))))
        self.insert_many(table, columns, rows)

    def update(self, table: Table, key: Key, values: Row) -> None:
        for row in self._rows(table.name):
            if table.key_of(row) == tuple(key):
                row.update(values)
        self._save()

    def remove(self, table: Table, key: Key) -> None:
        self.data[table.name]["rows"] = [r for r in self._rows(table.name) if table.key_of(r) != tuple(key)]
        self._save()

    def recount(self, table: Table, column: str, counted: Table, by: str, where: Mapping[str, Value], key: Key,
                through: tuple[Table, str, Mapping[str, Value]] | None = None) -> None:
        self.update(table, key, {column: sum(r.get(by) == key[0] for r in self._rows(counted.name))})

    def clear(self, table: str, column: str | None = None, patterns: Sequence[str] = ()) -> None:
        self.data[table]["rows"] = []

    def mark(self, table: str, name: str, when: str) -> None:
        columns = (Column("merge_id", "text", False, None), Column("at", "text", False, None))
        made = Table(table, columns, ("merge_id",), False)
        self.data.setdefault(table, {"table": msgspec.to_builtins(made), "rows": [], "next": 1})
        self.insert(made, {"merge_id": name, "at": when})

    def outline(self) -> Outline:
        return Outline("tiny", tables=tuple(self.tables().values()),
                       counters={n: said["next"] for n, said in self.data.items()})

    def build(self, outline: Outline) -> None:
        for table in outline.tables:
            self.create_table(table)

    def finish(self, outline: Outline) -> None:
        for name, number in outline.counters.items():
            self.data[name]["next"] = number
        self._save()

    def create_table(self, table: Table) -> None:
        self.data[table.name] = {"table": msgspec.to_builtins(table), "rows": [], "next": 1}
        self._save()

    def add_column(self, table: Table, column: Column, filled: Value = None) -> None:
        self.data[table.name]["table"]["columns"].append(msgspec.to_builtins(column))
        self._save()

    def change_column(self, table: Table, column: Column) -> None:
        raise NotImplementedError

    def create_index(self, table: str, name: str, ddl: str) -> None:
        raise NotImplementedError

    def drop(self, what: str, table: str, name: str) -> None:
        del self.data[table]
        self._save()


class TinyEngine(Engine):
    name, schemes, title, kept, example = "tiny", ("tiny",), "Tiny", "a Tiny file", "tiny:///site.json"
    is_file = True

    def parse(self, url: DatabaseUrl, folder: Path) -> DatabaseUrl:
        return DatabaseUrl("tiny", database=str((folder / str(url.database)).resolve()))

    def shown(self, location: Location) -> str:
        return str(self.file(location))

    def at_path(self, path: str, folder: Path) -> Location:
        return Location(DatabaseUrl("tiny", database=str(folder / path)))

    def file(self, location: Location) -> Path:
        return Path(str(location.url.database))

    def companions(self, location: Location) -> tuple[Path, ...]:
        return (self.file(location),)

    def same(self, one: Location, other: Location) -> bool:
        return self.file(one) == self.file(other)

    def same_server(self, one: Location, other: Location) -> bool:
        return False

    def open(self, location: Location, readonly: bool = False) -> Database:
        return TinyDatabase(self.file(location))

    def create(self, location: Location) -> Database:
        self.file(location).parent.mkdir(parents=True, exist_ok=True)
        self.file(location).write_text("{}")
        return self.open(location)

    def beside(self, live: Location, home: Path, target: Path, name: str) -> Location:
        return self.at_path(str(self.file(live).relative_to(home)), target)

    def asked(self, live: Location, wanted: str | None, prefix: str | None) -> Location:
        raise NotImplementedError

    def make_place(self, live: Location, wanted: Location, asked: bool, fallback: str) -> CopyPlace:
        return CopyPlace(wanted, "file")

    def remove_place(self, location: Location, made: str, tables: Collection[str], user: str) -> list[str]:
        self.file(location).unlink(missing_ok=True)
        return []

    def check_free(self, location: Location) -> None:
        return

    def swap(self, location: Location, folder: Path, mark: str) -> Swap:
        raise NotImplementedError

    def check_outline(self, outline: Outline) -> None:
        return
