"""What a table is, as data, whatever engine holds it."""

from __future__ import annotations

import re
from collections.abc import Collection, Mapping
from dataclasses import field, replace
from functools import cached_property

from nostos.core.records import dataclass

Value = None | int | float | str | bytes
Row = dict[str, Value]
Key = tuple[Value, ...]
NAMED = ("index", "constraint")  # parts of a table that are defined over its columns, and hold no values


@dataclass(frozen=True)
class Column:
    """One column. declared: the type as the schema writes it. default: SQL text, or None. charset: a server's, of text.
    kind: what its values are, told by the engine when it reads the schema: "int", "binary", "text", "float" or "other"
    (given as text); empty where every value has a kind of its own.
    """

    name: str
    declared: str
    nullable: bool
    default: str | None
    generated: bool = False
    charset: str | None = None
    kind: str = ""

    @property
    def is_json(self) -> bool:
        return "JSON" in self.declared.upper()


def in_todays_names(data: bytes) -> bytes:
    """A schema as JSON, with today's names in it: a column's kind was called otherwise once."""
    return data.replace(b'"travels":', b'"kind":')


def definition(column: Column) -> str:
    """A column's definition as text, for comparing and for people."""
    return " ".join(filter(None, (column.declared, f"character set {column.charset}" if column.charset else "",
                                  "" if column.nullable else "not null",
                                  "generated" if column.generated else "",
                                  f"default {column.default}" if column.default is not None else "")))


def numbered_by_system(tables: Mapping[str, Table], names: Collection[str]) -> dict[str, Table]:
    """Tables, where the system itself gives out the numbers of those with these names, one after the other: so two
    sides may give one out twice, as a database may."""
    return {n: replace(t, surrogate=True) if n in names and len(t.key) == 1 and (c := t.column(
        t.key[0])) is not None and c.kind == "int" else t for n, t in tables.items()}


def definitions(table: Table) -> dict[str, str]:
    """How a table's columns and indexes are defined, by `column/table.name` and `index/table.name`."""
    return {**{f"column/{table.name}.{c.name}": definition(c) for c in table.columns},
            **{f"{what}/{table.name}.{name}": ddl for what in NAMED for name, ddl in table.named(what).items()}}


@dataclass(frozen=True)
class ForeignKey:
    """Columns that point at columns of another table."""

    columns: tuple[str, ...]
    target: str
    target_columns: tuple[str, ...]


@dataclass(frozen=True)
class Table:
    """A table: columns in order, key columns (empty: no key), and what is declared about them.

    surrogate: the key is one number that the database itself gives out, so it may be given out twice on two sides.
    form: how its rows are written as bytes (see rowforms.py): "packed" or "text".
    """

    name: str
    columns: tuple[Column, ...]
    key: tuple[str, ...]
    surrogate: bool
    uniques: tuple[tuple[str, ...], ...] = ()
    foreign_keys: tuple[ForeignKey, ...] = ()
    ddl: str = ""
    indexes: tuple[tuple[str, str], ...] = field(default=())  # (name, DDL) of the indexes that are not constraints
    form: str = "packed"
    constraints: tuple[tuple[str, str], ...] = ()  # (name, definition) of those that can be added and dropped by name

    def with_new_of(self, other: Table) -> Table:
        """This table with the columns, and what they point at, that another definition of it has more."""
        return replace(self, columns=(*self.columns, *(c for c in other.columns if c.name not in self._by_name)),
                       foreign_keys=tuple(dict.fromkeys((*self.foreign_keys, *other.foreign_keys))))

    def named(self, what: str) -> dict[str, str]:
        """What is defined over it by name and text. what: one of `NAMED`."""
        return dict(self.indexes if what == "index" else self.constraints)

    @property
    def names(self) -> tuple[str, ...]:
        """The names of all columns, in their order."""
        return tuple(c.name for c in self.columns)

    @property
    def stored(self) -> tuple[str, ...]:
        """Columns that hold data of their own; generated ones follow from these."""
        return self._stored

    @cached_property
    def _stored(self) -> tuple[str, ...]:
        return tuple(c.name for c in self.columns if not c.generated)

    @cached_property
    def _by_name(self) -> dict[str, Column]:
        return {c.name: c for c in self.columns}

    def column(self, name: str) -> Column | None:
        """The column of this name; None where there is none."""
        return self._by_name.get(name)

    @property
    def continues(self) -> str:
        """The table whose rows its own go on with, one each, under the same key; empty where it has keys of its own."""
        return "" if self.surrogate else next((fk.target for fk in self.foreign_keys if fk.columns == self.key), "")

    def indexed(self, column: str) -> bool:
        """Whether an index begins with this column."""
        if any(columns[0] == column for columns in (self.key, *self.uniques) if columns):
            return True
        return any(re.search(rf"\([`\"]?{re.escape(column)}[`\",) (]", ddl) for _, ddl in self.indexes)

    def key_of(self, row: Row) -> Key:
        """The key of a row, in the order of the key's columns."""
        return tuple(row[c] for c in self.key)
