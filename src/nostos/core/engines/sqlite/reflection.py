"""The tables of a SQLite file, read in a few statements for all of them."""

from __future__ import annotations

from collections.abc import Collection, Iterable, Sequence
from typing import Any

from nostos.core.database.schema import Column, ForeignKey, Table

_TABLES = ("SELECT name, sql FROM sqlite_master WHERE type='table' AND name NOT LIKE 'sqlite\\_%' ESCAPE '\\' "
           "AND sql NOT LIKE 'CREATE VIRTUAL%' ORDER BY name")
_COLUMNS = ("SELECT m.name, p.cid, p.name, p.type, p.\"notnull\", p.dflt_value, p.pk, p.hidden FROM sqlite_master m "
            "JOIN pragma_table_xinfo(m.name) p WHERE m.type='table' AND m.sql NOT LIKE 'CREATE VIRTUAL%' "
            "ORDER BY m.name, p.cid")
_UNIQUES = ("SELECT m.name, l.seq, l.name, i.name FROM sqlite_master m JOIN pragma_index_list(m.name) l "
            "JOIN pragma_index_info(l.name) i WHERE m.type='table' AND l.\"unique\" AND l.origin != 'pk' "
            "AND NOT l.partial ORDER BY m.name, l.seq, i.seqno")
_FOREIGN = ("SELECT m.name, f.id, f.seq, f.\"table\", f.\"from\", f.\"to\" FROM sqlite_master m "
            "JOIN pragma_foreign_key_list(m.name) f WHERE m.type='table' ORDER BY m.name, f.id DESC, f.seq")
_INDEXES = "SELECT tbl_name, name, sql FROM sqlite_master WHERE type='index' AND sql IS NOT NULL ORDER BY name"


STATEMENTS = (_TABLES, _COLUMNS, _UNIQUES, _FOREIGN, _INDEXES)


def tables_of(rows: Sequence[list[tuple[Any, ...]]], shadows: Collection[str]) -> dict[str, Table]:
    """Every table but virtual ones and those in which they keep what they know, by name. rows: the rows that
    `STATEMENTS` give."""
    made = {name: sql for name, sql in rows[0] if name not in shadows}
    columns, uniques, foreign, indexes = map(_by_table, rows[1:])
    keys = {name: _key(rows) for name, rows in columns.items()}
    return {name: _table(name, ddl, columns.get(name, []), _grouped(uniques.get(name, [])),
                         _foreign_keys(foreign.get(name, []), keys), indexes.get(name, []))
            for name, ddl in made.items()}


def _by_table(rows: Iterable[tuple[Any, ...]]) -> dict[str, list[tuple[Any, ...]]]:
    by_table: dict[str, list[tuple[Any, ...]]] = {}
    for name, *rest in rows:
        by_table.setdefault(name, []).append(tuple(rest))
    return by_table


def _key(columns: list[tuple[Any, ...]]) -> tuple[str, ...]:
    return tuple(c[1] for c in sorted((c for c in columns if c[5]), key=lambda c: c[5]))


def _grouped(rows: list[tuple[Any, ...]]) -> list[tuple[str, ...]]:
    """The columns of each unique index that has columns only."""
    by_index: dict[str, list[Any]] = {}
    for _, index, column in rows:
        by_index.setdefault(index, []).append(column)
    return [tuple(columns) for columns in by_index.values() if None not in columns]


def _foreign_keys(rows: list[tuple[Any, ...]], keys: dict[str, tuple[str, ...]]) -> list[ForeignKey]:
    by_number: dict[int, list[tuple[Any, ...]]] = {}
    for number, _, table, column, target in rows:
        by_number.setdefault(number, []).append((table, column, target))
    return [ForeignKey(tuple(c for _, c, _ in parts), parts[0][0],
                       # SQLite lets the target columns be left out: its primary key is meant.
                       keys.get(parts[0][0], ()) if any(t is None for *_, t in parts) else tuple(t for *_, t in parts))
            for parts in by_number.values()]


def _table(name: str, ddl: str, info: list[tuple[Any, ...]], uniques: list[tuple[str, ...]],
           foreign: list[ForeignKey], indexes: list[tuple[Any, ...]]) -> Table:
    columns = tuple(Column(c, declared, not solid, default, generated=hidden in (2, 3))
                    for _, c, declared, solid, default, _, hidden in info if hidden != 1)
    key = _key(info)
    if not key:
        # A unique index over columns that are never empty tells rows apart as well as a key does.
        solid = {c.name for c in columns if not c.nullable}
        key = next((u for u in uniques if set(u) <= solid), ())
    # One INTEGER PRIMARY KEY is the row's own number, which SQLite gives out by itself; unless it is the number of
    # another table's row.
    surrogate = (len(key) == 1 and any(c[5] and c[1] == key[0] and c[2].upper() == "INTEGER" for c in info)
                 and all(fk.columns != key for fk in foreign))
    return Table(name, columns, key, surrogate, tuple(uniques), tuple(foreign), ddl,
                 tuple((index, sql) for index, sql in indexes))
