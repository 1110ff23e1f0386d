"""What a system itself says of what points at what, in a table of its own."""

from __future__ import annotations

from collections.abc import Mapping

from nostos.core.database.protocol import Database
from nostos.core.database.schema import Table
from nostos.core.profiles.frameworks import base_of, model_names
from nostos.core.profiles.model import Profile

_MOST = 200_000  # rows that are looked at
_ENTRY = "item"  # a step into a list


def pointers_of(database: Database, tables: Mapping[str, Table], profile: Profile
                ) -> dict[tuple[str, str], set[tuple[frozenset[str], str]]]:
    """By table and column, the steps of paths in it that point anywhere, and the table that each points at; empty where
    the profile names no such table, or where it is not there."""
    declared, framework = profile.pointers, profile.framework
    if declared is None or framework is None or not {declared.table, framework.types} <= tables.keys():
        return {}
    types = tables[framework.types]
    if not {declared.of, declared.to,
            declared.path} <= {*tables[declared.table].names} or not {*framework.names} <= {*types.names}:
        return {}
    models = model_names(framework, tables)
    named = {row[0]: models.get(tuple(map(str, row[1:])), "") for row in database.scan(
        types, (*types.key, *framework.names))}
    pointers: dict[tuple[str, str], set[tuple[frozenset[str], str]]] = {}
    seen = set()
    for at, row in enumerate(database.scan(tables[declared.table], (declared.of, declared.to, declared.path))):
        if at >= _MOST:
            break
        if row in seen:
            continue
        seen.add(row)
        of, to, path = named.get(row[0], ""), base_of(tables, named.get(row[1], "")), str(row[2]).split(".")
        if of and to:
            pointers.setdefault((of, path[0]), set()).add((frozenset(path[1:]) - {_ENTRY, ""}, to))
    return pointers
