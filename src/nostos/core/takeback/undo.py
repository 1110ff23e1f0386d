"""Taking a merge back later, keeping what live gained since.

An undo is itself a merge of three versions: what the merge left is the ancestor, what was there before it is what comes
back, and live as it is now is live. So whatever live changed since stays, and what it has built upon is not removed.
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import dataclass, replace
from typing import Any, cast

import msgspec

from nostos.core.anchor.names import Keys, Side
from nostos.core.anchor.store import Anchor
from nostos.core.apply.merge import Prepared
from nostos.core.compare.file_changes import FileState
from nostos.core.compare.gather import Comparison, Item, assemble
from nostos.core.compare.portable import Translator
from nostos.core.compare.row_changes import Joins, Rows, RowState, effective_profile
from nostos.core.compare.schema_changes import schema_items
from nostos.core.database.protocol import Database, told
from nostos.core.database.rows.digests import unsqueeze
from nostos.core.database.schema import Key, Row, Table
from nostos.core.errors import VoyageError
from nostos.core.files.local import LocalTree
from nostos.core.files.scan import Entry
from nostos.core.plan import needs as need_finder
from nostos.core.plan.needs import Needs
from nostos.core.plan.operations import plan
from nostos.core.plan.selection import Choice, choose
from nostos.core.sites.recognise import Site
from nostos.core.values.urls import UrlForms
from nostos.core.voyages import journal as journals
from nostos.core.voyages.home import Crew, Home


@dataclass(frozen=True)
class Done:
    """An operation that reached live: its id, "merge" or "undo", when, and which one it took back (empty: none)."""

    id: str
    verb: str
    when: str
    undoes: str = ""


def done(home: Home, voyage: str) -> list[Done]:
    """The merges and undos of a voyage that reached live, oldest first."""
    found = []
    for folder in sorted((home.folder(voyage) / "merges").glob("*/")):
        steps = {line["step"]: line for line in journals.read(folder)}
        begun = steps.get("plan")
        if begun and "settled" in steps and begun.get("toward") == "live" and (folder / journals.UNDO).is_file():
            undoes = begun.get("undoes") or ""
            found.append(Done(folder.name, "undo" if undoes else "merge", begun["at"], undoes))
    return found


def undone(every: Iterable[Done]) -> set[str]:
    """The ids of what is taken back: what an undo names that was not taken back itself."""
    found: set[str] = set()
    for d in reversed(list(every)):
        if d.undoes and d.id not in found:
            found.add(d.undoes)
    return found


def to_take_back(home: Home, voyage: str, name: str | None) -> Done:
    """The named operation, or the last merge that was not taken back. Raises VoyageError when there is none."""
    every = done(home, voyage)
    gone = undone(every)
    if name is None:
        open_ones = [d for d in every if d.verb == "merge" and d.id not in gone]
        if not open_ones:
            raise VoyageError(f"Voyage {voyage} has no merge to take back.", next_step="`nostos history` lists them.")
        return open_ones[-1]
    found = next((d for d in every if d.id == name), None)
    if found is None:
        names = ", ".join(d.id for d in every) or "none"
        raise VoyageError(f"Voyage {voyage} has no merge {name}.", next_step=f"There are: {names}.")
    if found.id in gone:
        raise VoyageError(f"{name} was taken back already.",
                          next_step="To have it again, take back the undo, by its id.")
    return found


def prepare_undo(home: Home, crew: Crew, which: Done, choice: Choice | None = None, schema: bool = False) -> Prepared:
    """Work out how to take an operation back on live as it is now. schema: tables, columns and indexes that it added go
    too, where nothing but its own is in them. Changes nothing. Raises VoyageError or SelectionError."""
    folder = home.folder(crew.voyage.name) / "merges" / which.id
    data = unsqueeze((folder / journals.UNDO).read_bytes())
    choice = choice or Choice(everyone=True)
    database = crew.live.open(readonly=True)
    try:
        with told(database), database.reading():
            files = [_file(crew, f) for f in data["files"]]
            comparison, needs = compare_stored(crew.live, database, data["rows"], files, data.get("schema", []), schema)
            selection = choose(comparison, needs, choice)
            return Prepared(comparison, needs, plan(comparison, needs, selection), choice, Side.LIVE, choice,
                            dict(comparison.items), which.id,
                            lambda: prepare_undo(home, crew, which, choice, schema))
    finally:
        database.close()


def compare_stored(live: Site, database: Database, rows: list[dict[str, Any]],
                   files: Iterable[FileState], schema: Iterable[Mapping[str, Any]] = (),
                   additions: bool = False) -> tuple[Comparison, Needs]:
    """A comparison of live, as it is now, with rows that were kept: what is kept plays staging's part.

    database: live's, being read. rows: of each its "table", its "key", and how it was "before" (what comes back) and
    "after" (the ancestor), each None where it was not there. schema: steps as a journal keeps them; what they dropped
    comes back, and, with `additions`, what they added goes if it is empty.
    """
    found = _rows(live, database, rows)
    states = [f for f in files if not _same(f.live, f.staging)]
    items: list[Item] = []
    if schema:
        found = replace(found, staging_tables=_schema_before(database, found, schema, additions))
        items = [replace(item, careful=False) for item in schema_items(found)]
    comparison = assemble(ancestors(database), found, states, items, database, database)
    return comparison, need_finder.resolve(comparison, database)


def _schema_before(database: Database, rows: Rows, steps: Iterable[Mapping[str, Any]], additions: bool
                   ) -> dict[str, Table]:
    """Live's tables as they are to be: with what is to come back, without what is to go."""
    tables = dict(rows.live_tables)
    for step in steps:
        table, name = msgspec.convert(step["table"], Table), step["name"]
        there = tables.get(table.name)
        column = table.column(name)
        if step["action"] == "drop":
            if step["what"] == "table":
                tables.setdefault(table.name, table)
            elif there is not None and step["what"] == "column" and there.column(name) is None and column is not None:
                tables[table.name] = replace(there, columns=(*there.columns, column), ddl=table.ddl)
            elif there is not None and step["what"] == "index" and name not in dict(there.indexes):
                index = (name, dict(table.indexes)[name])
                tables[table.name] = replace(there, indexes=(*there.indexes, index))
        elif additions and there is not None:
            goes = {s.live_key for s in rows.states.values() if s.table == there.name and s.staging is None}
            column = there.column(name)
            if step["what"] == "table" and database.count(there.name) == len(goes):
                del tables[there.name]
            elif step["what"] == "column" and column is not None and all(
                    there.key_of(row) in goes for row in database.rows_where_set(there, [column])):
                tables[there.name] = replace(there, columns=tuple(c for c in there.columns if c != column))
            elif step["what"] == "index":
                tables[there.name] = replace(there, indexes=tuple(i for i in there.indexes if i[0] != name))
    return tables


def ancestors(database: Database) -> Anchor:
    """Stands where a comparison has its anchor, for comparisons that have none."""
    return cast(Anchor, _Ancestors(database, database.tables()))


def _rows(live: Site, database: Database, entries: list[dict[str, Any]]) -> Rows:
    tables = database.tables()
    profile = effective_profile(live, tables)
    keys = Keys({}, lambda table, key: True)
    urls = UrlForms(live.url)
    joins = Joins(profile, database, tables, database, lambda table, key: True)
    translator = Translator(profile, tables, urls, keys, database.prefix, joins)
    states = {}
    now = _now(database, tables, entries)
    for entry in entries:
        table = tables.get(entry["table"])
        if table is None:
            continue
        key = tuple(entry["key"])
        state = _state(table, key, entry["after"], now.get((table.name, key)), entry["before"], translator)
        if state is not None:
            states[state.id] = state
    return Rows(profile, tables, tables, tables, states, keys, keys, dict.fromkeys(Side, translator), translator, urls,
                database.prefix, database.prefix, keep_keys=True)


def _now(database: Database, tables: Mapping[str, Table],
         entries: list[dict[str, Any]]) -> dict[tuple[str, Key], Row]:
    wanted: dict[str, list[Key]] = {}
    for entry in entries:
        wanted.setdefault(entry["table"], []).append(tuple(entry["key"]))
    return {(name, tables[name].key_of(row)): row for name, some in wanted.items() if name in tables
            for row in database.fetch_many(tables[name], some)}


def _state(table: Table, key: Key, base: Row | None, live: Row | None, staging: Row | None,
           translator: Translator) -> RowState | None:
    forms = [translator.row(table.name, _known(table, r)) if r is not None else None for r in (base, live, staging)]
    if forms[1] == forms[2]:
        return None
    row = live or base or staging or {}
    if table.surrogate:
        name: Key = (str(key[0]),)
    else:
        name = tuple(translator.value(table.name, row, c) for c in table.key)
    full = translator.full(table.name, row)
    return RowState(table.name, name, forms[0], forms[1], forms[2], live, staging, frozenset({Side.STAGING}),
                    key if live is not None else None, key, joined={k: v for k, v in full.items() if k not in row})


def _known(table: Table, row: Row) -> Row:
    """A row without columns that the table has no more."""
    return {c: v for c, v in row.items() if table.column(c) is not None}


def _file(crew: Crew, entry: dict[str, Any]) -> FileState:
    after, before = (msgspec.convert(entry[k], Entry | None) for k in ("after", "before"))
    now = LocalTree(crew.live.files).entry(entry["path"], digest=True)
    return FileState(entry["path"], after, now, before)


def _same(one: Entry | None, other: Entry | None) -> bool:
    return (one is None and other is None) or (one is not None and one.same_as(other))


class _Ancestors:
    """Stands where a comparison has its anchor: what is not part of the undo is as live has it."""

    def __init__(self, database: Database, tables: Mapping[str, Table]) -> None:
        self._database = database
        self._tables = tables

    def base_row(self, table: str, key: Key) -> Row | None:
        found = self._tables.get(table)
        return self._database.fetch(found, key) if found else None

    def below(self, folder: str) -> int:
        return 1  # a folder of an extension is edited, not new
