"""The schema side of a merge: steps taken, and taken back."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from dataclasses import replace
from typing import Any

import msgspec

from nostos.core.apply.verify import Verifier
from nostos.core.compare.items import SchemaAction
from nostos.core.compare.row_states import Rows
from nostos.core.database.protocol import AT_ONCE, Database
from nostos.core.database.schema import NAMED, Table, Value
from nostos.core.errors import MergeRefused
from nostos.core.plan.operations import Plan, SchemaOperation
from nostos.core.records import dataclass


@dataclass(frozen=True)
class TakenStep:
    """A schema step as it was taken, or was about to be: what it takes to take it back. what: table, column, index,
    constraint. action: add, change, drop. ddl, before: its definition, now and as it was. old_table: the table of a
    column that is changed, as it was. filled: what rows that were there got in a new column. made: False where it is
    known that the server refused it."""

    what: str
    table: str
    name: str
    action: str
    ddl: str | None = None
    before: str | None = None
    old_table: Table | None = None
    filled: Value = None
    made: bool = True

    def data(self) -> dict[str, Any]:
        """The step as the journal has it."""
        made: dict[str, Any] = msgspec.to_builtins(self)
        return made

    @classmethod
    def of(cls, data: Mapping[str, Any]) -> TakenStep:
        """The step that `data` gave. Raises msgspec.ValidationError and TypeError."""
        old = data.get("old_table")
        return cls(**{**data, "old_table": None if old is None else msgspec.convert(old, Table)})


Note = Callable[[TakenStep], None]


def apply_schema(plan: Plan, rows: Rows, target_db: Database, note: Note = lambda _: None) -> None:
    """Carry out the schema steps, on a connection that refuses what would be cut (`be_strict`). note: is told of each
    step before it is taken: a crash between the two leaves a step that may have been taken, and what it holds tells."""
    verifier = Verifier(plan, target_db, rows.target)
    for operation in plan.of(SchemaOperation):
        step = operation.step
        if step.action is SchemaAction.DROP:
            continue  # at the very end
        source = rows.source_tables[step.table]
        column = source.column(step.name)
        if step.what == "constraint" and target_db.transactional_schema:
            continue  # when the rows are as they are to be
        element = target_db.tables()[step.table].named(step.what) if step.what in NAMED else {}
        if step.what in NAMED and element.get(step.name) == step.ddl:
            continue  # live has gained it by itself
        if step.action is SchemaAction.ADD and step.what in ("table", "column"):
            verifier.schema(step.table, step.name if step.what == "column" else None)
        changes = step.what == "column" and step.action is SchemaAction.CHANGE
        old = rows.target_tables.get(step.table) if changes else None
        taken = TakenStep(step.what, step.table, step.name, str(step.action), step.ddl, step.before, old, step.filled)
        note(taken)
        try:
            if step.what == "table":
                target_db.create_table(replace(source, ddl=step.ddl or source.ddl))
            elif step.what == "column":
                assert column is not None
                if step.action is SchemaAction.ADD:
                    target_db.add_column(source, column, step.filled)
                else:
                    if not target_db.fits(source, column):
                        raise MergeRefused(f"{step.table}.{step.name} holds values that would not be the same as "
                                           f"{column.declared}.", next_step="Look at that column, or leave the step "
                                           "out.")
                    target_db.change_column(source, column)
            else:
                if step.name in element:
                    target_db.drop(step.what, step.table, step.name)
                _define(target_db, step.what, source, step.name, step.ddl)
        except Exception as error:
            if isinstance(error, MergeRefused) or target_db.refused_a_row(error):  # it is known not to be there
                note(replace(taken, made=False))
            raise


def steps_made(steps: Iterable[TakenStep]) -> list[TakenStep]:
    """Of what `note` was told, the steps that were made, or may have been."""
    made: list[TakenStep] = []
    for step in steps:
        if step.made:
            made.append(step)
        else:
            made.pop()
    return made


def _define(database: Database, what: str, table: Table, name: str, ddl: str) -> None:
    if what == "index":
        database.create_index(table.name, name, ddl)
    else:
        database.add_constraint(table, name, ddl)


def take_back_schema(steps: Sequence[TakenStep], database: Database) -> list[str]:
    """Take back steps as `note` was told them, where no transaction does. The last one may not have been taken. What
    holds something by now is left: it cannot be ours; so is what would cut a value that came since. Returns what is
    left as the steps had made it, in words."""
    if database.transactional_schema:
        return []
    database.be_strict()
    left = []
    for step in reversed(steps_made(steps)):
        table = database.tables().get(step.table)
        if table is None:
            continue
        what, name = step.what, step.name
        if step.action == SchemaAction.ADD:
            column = table.column(name)
            ours = {"table": database.count(table.name) == 0,
                    "column": column is not None and all(row.get(name) == step.filled
                                                         for row in database.rows_where_set(table, [column])),
                    **{n: table.named(n).get(name) == step.ddl for n in NAMED}}
            if ours[what]:
                database.drop(what, table.name, name)
            elif what == "table" or (what == "column" and column is not None):
                place = table.name if what == "table" else f"{table.name}.{name}"
                left.append(f"{what} {place}, which holds something by now")
        elif what in NAMED:
            if name in table.named(what):
                database.drop(what, table.name, name)
            _define(database, what, table, name, step.before or "")
        elif step.old_table is not None:
            before = step.old_table
            old = before.column(name)
            if old is not None and table.column(name) is not None:
                if database.fits(before, old):
                    database.change_column(before, old)
                else:
                    left.append(f"column {table.name}.{name}, which holds what {old.declared} would cut")
    return left


def add_constraints(plan: Plan, rows: Rows, target_db: Database) -> None:
    """Add what rows must keep to, where it is part of their transaction. Raises what the driver does where they do not.
    """
    for step in (o.step for o in plan.of(SchemaOperation) if o.step.what == "constraint"):
        element = target_db.tables()[step.table].named("constraint")
        if step.action is SchemaAction.DROP or element.get(step.name) == step.ddl:
            continue
        if step.name in element:
            target_db.drop("constraint", step.table, step.name)
        target_db.add_constraint(rows.source_tables[step.table], step.name, step.ddl)


def drop_schema(plan: Plan, target_db: Database) -> None:
    """Drop what was named to be dropped: what is defined over columns, columns, then tables."""
    steps = [o.step for o in plan.of(SchemaOperation) if o.step.action is SchemaAction.DROP]
    for step in sorted(steps, key=lambda s: ("constraint", "index", "column", "table").index(s.what)):
        target_db.drop(step.what, step.table, step.name)


def fill(table: Table, database: Database, rows: Iterator[tuple[Value, ...]], whole: bool) -> None:
    """Write rows that were kept when something was dropped. whole: all of a table; else one column, after the key, for
    the rows that are there still."""
    columns = [str(name) for name in next(rows)]
    batch: list[tuple[Value, ...]] = []
    for row in rows:
        if whole:
            batch.append(row)
            if len(batch) == AT_ONCE:
                database.insert_many(table, columns, batch)
                batch = []
        elif database.fetch(table, row[:-1]) is not None:
            database.update(table, row[:-1], {columns[-1]: row[-1]})
    database.insert_many(table, columns, batch)
