"""Definitions that call what may do more than work out a value: they go only when they are named."""

from __future__ import annotations

from dataclasses import replace

from nostos.core.compare.field_merge import Standing
from nostos.core.compare.items import Comparison, SchemaAction, SchemaStep, with_standing
from nostos.core.compare.row_states import Rows
from nostos.core.database.protocol import Database
from nostos.core.database.sql_text import calls
from nostos.core.errors import SiteError


def mark_called_code(comparison: Comparison, target_db: Database) -> None:
    """Say of each change of the schema that could go to the target what code it would run there. One that cannot be
    read is a clash."""
    called: dict[str, frozenset[str]] = {}
    for item in list(comparison.items.values()):
        if item.schema and item.goes_home and item.schema[0].action is not SchemaAction.DROP:
            try:
                called[item.id] = _called(comparison.rows, item.schema[0])
            except SiteError as error:
                comparison.items[item.id] = with_standing(item, Standing.CLASH, str(error))
    runs = target_db.running_code(frozenset().union(*called.values())) if any(called.values()) else frozenset()
    for name, names in called.items():
        if names & runs:
            item = comparison.items[name]
            step = replace(item.schema[0], calls=tuple(sorted(names & runs)))
            comparison.items[name] = replace(item, careful=True, schema=(step, *item.schema[1:]))


def _called(rows: Rows, step: SchemaStep) -> frozenset[str]:
    texts = [step.ddl]
    table = rows.source_tables.get(step.table)
    if step.what == "table" and table is not None:
        texts += [ddl for _, ddl in (*table.indexes, *table.constraints)]
    return frozenset().union(*(calls(text, rows.engine.name) for text in texts))
