"""A comparison of live, as it is now, with rows and files that were kept: what is kept plays staging's part."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import replace
from typing import Any

import msgspec

from nostos.core.anchor.ancestors import Ancestors
from nostos.core.anchor.names import Keys, Side
from nostos.core.compare.file_changes import FileState
from nostos.core.compare.gather import assemble
from nostos.core.compare.items import Comparison, Item
from nostos.core.compare.joins import Joins
from nostos.core.compare.places import Places
from nostos.core.compare.portable import Translator
from nostos.core.compare.row_states import Rows, RowState
from nostos.core.compare.schema_changes import schema_items
from nostos.core.database.protocol import Database
from nostos.core.database.schema import NAMED, Key, Row, Table
from nostos.core.files.entry import FileEntry
from nostos.core.learning.findings import Layer
from nostos.core.plan import needs as need_finder
from nostos.core.plan.needs import Needs
from nostos.core.sites.addresses import forms_of
from nostos.core.sites.effective_profile import effective_profile
from nostos.core.sites.recognise import Site


def compare_stored(live: Site, database: Database, rows: list[dict[str, Any]],
                   files: Iterable[FileState], schema: Iterable[Mapping[str, Any]] = (),
                   additions: bool = False, layers: Iterable[Layer] = ()) -> tuple[Comparison, Needs]:
    """A comparison of live, as it is now, with rows that were kept: what is kept plays staging's part.

    database: live's, being read. rows: of each its "table", its "key", and how it was "before" (what comes back) and
    "after" (the ancestor), each None where it was not there. schema: steps as a journal keeps them; what they dropped
    comes back, and, with `additions`, what they added goes if it is empty. layers: what is known beside the profile.
    """
    row_changes = _rows(live, database, rows, layers)
    states = [f for f in files if not _same(f.target, f.source)]
    items: list[Item] = []
    if schema:
        row_changes = replace(row_changes, source_tables=_schema_before(database, row_changes, schema, additions))
        items = [replace(item, careful=False) for item in schema_items(row_changes)]
    comparison = assemble(ancestors(database), row_changes, states, items, database, database)
    return comparison, need_finder.resolve(comparison, database)


def _schema_before(database: Database, rows: Rows, steps: Iterable[Mapping[str, Any]], additions: bool
                   ) -> dict[str, Table]:
    """Live's tables as they are to be: with what is to come back, without what is to go."""
    tables = dict(rows.target_tables)
    for step in steps:
        table, name = msgspec.convert(step["table"], Table), step["name"]
        target_table = tables.get(table.name)
        column = table.column(name)
        if step["action"] == "drop":
            if step["what"] == "table":
                tables.setdefault(table.name, table)
            elif target_table is not None and step["what"] == "column" and (
                    target_table.column(name) is None and column is not None):
                tables[table.name] = replace(target_table, columns=(*target_table.columns, column), ddl=table.ddl)
            elif target_table is not None and step["what"] in NAMED and name not in target_table.named(step["what"]):
                tables[table.name] = _with(target_table, step["what"], {
                    **target_table.named(step["what"]), name: table.named(step["what"])[name]})
        # A constraint holds nothing, and might refuse what visitors write: it goes in any case.
        elif (additions or step["what"] == "constraint") and target_table is not None:
            goes = {s.target_key for s in rows.states.values() if s.table == target_table.name and s.source is None}
            column = target_table.column(name)
            if step["what"] == "table" and database.count(target_table.name) == len(goes):
                del tables[target_table.name]
            elif step["what"] == "column" and column is not None and all(
                    target_table.key_of(row) in goes for row in database.rows_where_set(target_table, [column])):
                tables[target_table.name] = replace(target_table,
                                                    columns=tuple(c for c in target_table.columns if c != column))
            elif step["what"] in NAMED:
                tables[target_table.name] = _with(target_table, step["what"], {
                    n: ddl for n, ddl in target_table.named(step["what"]).items() if n != name})
    return tables


def _with(table: Table, what: str, named: Mapping[str, str]) -> Table:
    if what == "index":
        return replace(table, indexes=tuple(named.items()))
    return replace(table, constraints=tuple(named.items()))


def ancestors(database: Database) -> Ancestors:
    """Stands where a comparison has its anchor, for comparisons that have none."""
    return _StoredAncestors(database, database.tables())


def _rows(live: Site, database: Database, entries: list[dict[str, Any]], layers: Iterable[Layer]) -> Rows:
    tables = database.tables()
    profile = effective_profile(live, tables, layers)
    keys = Keys({}, lambda table, key: True)
    urls = forms_of(live)
    joins = Joins(profile, database, tables, database, lambda table, key: True)
    kept = {when: {name: {e["key"][0]: e[when] for e in entries if e["table"] == name} for name, _ in profile.placed}
            for when in ("after", "before")}
    after, translator, before = (
        Translator(profile, tables, urls, keys, database.prefix, joins, Places(profile, database, tables, known))
        for known in (kept["after"], None, kept["before"]))
    states = {}
    now = _now(database, tables, entries)
    for name in tables:
        joins.prefetch(name, (row for e in entries if e["table"] == name for row in (e["after"], e["before"]) if row))
    for entry in entries:
        table = tables.get(entry["table"])
        if table is None:
            continue
        key = tuple(entry["key"])
        versions = ((after, entry["after"]), (translator, now.get((table.name, key))), (before, entry["before"]))
        state = _state(table, key, versions)
        if state is not None:
            states[state.id] = state
    return Rows(profile, live.database.engine, tables, tables, tables, states, keys, keys,
                dict.fromkeys(Side, translator), translator, urls, database.prefix, database.prefix, keep_keys=True)


def _now(database: Database, tables: Mapping[str, Table],
         entries: list[dict[str, Any]]) -> dict[tuple[str, Key], Row]:
    wanted: dict[str, list[Key]] = {}
    for entry in entries:
        wanted.setdefault(entry["table"], []).append(tuple(entry["key"]))
    return {(name, tables[name].key_of(row)): row for name, some in wanted.items() if name in tables
            for row in database.fetch_many(tables[name], some)}


def _state(table: Table, key: Key, versions: Sequence[tuple[Translator, Row | None]]) -> RowState | None:
    forms = [by.row(table.name, _known(table, row)) if row is not None else None for by, row in versions]
    base, target, source = (row for _, row in versions)
    translator = versions[1][0]
    if forms[1] == forms[2]:
        return None
    row = target or base or source or {}
    if table.surrogate:
        name: Key = (str(key[0]),)
    else:
        name = tuple(translator.value(table.name, row, c) for c in table.key)
    full = translator.full(table.name, row)
    return RowState(table.name, name, forms[0], forms[1], forms[2], target, source, frozenset({Side.STAGING}),
                    key if target is not None else None, key, joined={k: v for k, v in full.items() if k not in row})


def _known(table: Table, row: Row) -> Row:
    """A row without columns that the table has no more."""
    return {c: v for c, v in row.items() if table.column(c) is not None}


def _same(one: FileEntry | None, other: FileEntry | None) -> bool:
    return (one is None and other is None) or (one is not None and one.same_as(other))


class _StoredAncestors:
    """Stands where a comparison has its anchor: what is not part of the undo is as live has it."""

    def __init__(self, database: Database, tables: Mapping[str, Table]) -> None:
        self._database = database
        self._tables = tables

    def base_row(self, table: str, key: Key) -> Row | None:
        table_rows = self._tables.get(table)
        return self._database.fetch(table_rows, key) if table_rows else None

    def below(self, folder: str) -> int:
        return 1  # a folder of an extension is edited, not new
