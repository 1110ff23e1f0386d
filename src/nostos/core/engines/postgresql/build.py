"""The outline of a server's schema, and building one from it."""

from __future__ import annotations

import re
from collections.abc import Sequence
from contextlib import nullcontext, suppress
from typing import Any

import psycopg

from nostos.core.database.outline import Outline, Trigger
from nostos.core.engines.postgresql import attached, objects
from nostos.core.engines.postgresql.reflection import AND_THEN, HERE, at_home, not_brought, quote
from nostos.core.engines.postgresql.writing import PostgresWriting
from nostos.core.errors import MergeRefused
from nostos.core.expressions import expression

# Views that read from other views after these.
_VIEWS = ("WITH RECURSIVE reads(one, other) AS (SELECT DISTINCT r.ev_class, d.refobjid FROM pg_rewrite r "
          "JOIN pg_depend d ON d.classid = 'pg_rewrite'::regclass AND d.objid = r.oid AND d.refclassid = "
          "'pg_class'::regclass WHERE d.refobjid <> r.ev_class), deep(one, level) AS (SELECT c.oid, 0 FROM pg_class c "
          f"WHERE c.relnamespace = {HERE} AND c.relkind IN ('v', 'm') UNION SELECT r.one, d.level + 1 FROM deep d "
          "JOIN reads r ON r.other = d.one) SELECT c.relname, c.relkind = 'm', pg_get_viewdef(c.oid), c.relispopulated "
          f"FROM pg_class c WHERE c.relnamespace = {HERE} AND c.relkind IN ('v', 'm') AND "
          f"{not_brought('c.oid', 'pg_class')} ORDER BY (SELECT max(d.level) FROM deep d WHERE d.one = c.oid), c.oid")
_TRIGGERS = ("SELECT t.tgname, c.relname, pg_get_triggerdef(t.oid) FROM pg_trigger t "
             "JOIN pg_class c ON c.oid = t.tgrelid, LATERAL to_jsonb(t) j WHERE NOT t.tgisinternal "
             f"AND COALESCE(j ->> 'tgparentid', '0') = '0' AND c.relnamespace = {HERE} "
             f"AND {not_brought('c.oid', 'pg_class')} ORDER BY c.relname, t.tgname")
_COUNTERS = "SELECT sequencename, last_value FROM pg_sequences WHERE schemaname = current_schema() ORDER BY 1"
_UNOWNED = expression(r'\s*CREATE SEQUENCE IF NOT EXISTS ("(?:[^"]|"")*") ')
_OWNED = expression(r'\s*ALTER SEQUENCE (?:"(?:[^"]|"")*"\.)?("(?:[^"]|"")*") OWNED BY ')
_ROUTINE = expression(r"\s*CREATE (?:OR REPLACE )?(?:FUNCTION|PROCEDURE) ", re.IGNORECASE)
_LITERAL = expression(r"('(?:[^']|'')*')")
_HEIR = expression(r'(\n\) INHERITS \()((?:"(?:[^"]|"")*"(?:, )?)+)(?=\))')
_LEADS_OUT = expression(r' REFERENCES (?:"(?:[^"]|"")*"|[^".( ]+)\.')
# What a copy can often do without, as monitoring is: an extension that only the server's administrator may make.
_FIRST = ("CREATE SCHEMA ", "CREATE EXTENSION ")
_THERE = ("42710", "42723", "42P06", "42P07", "23505")  # it exists already
_NOT_THERE = ("42704", "42883", "42P01")  # what it is about does not


def outline(database: PostgresWriting) -> Outline:
    """Everything of a schema but its rows."""
    prefix = database.prefix
    results = database.run_all([(sql, ()) for sql in (
        *objects.STATEMENTS, *attached.STATEMENTS, *attached.RIGHTS, _VIEWS, _TRIGGERS, _COUNTERS,
        "SELECT current_schema()", objects.LEANING)])
    before, rest = _listed(results[:len(objects.STATEMENTS)]), results[len(objects.STATEMENTS):]
    after, rest = _listed(rest[:len(attached.STATEMENTS)]), rest[len(attached.STATEMENTS):]
    rights, rest = _listed(rest[:len(attached.RIGHTS)]), rest[len(attached.RIGHTS):]
    views, triggers, counters, schema, leaning = rest
    return Outline(
        "postgresql", database.name, prefix, tuple(database.tables().values()), {"schema": str(schema[0][0])},
        views=tuple((n[len(prefix):], f"MATERIALIZED VIEW {body.rstrip().rstrip(';')}{'' if full else ' WITH NO DATA'}"
                     if kept else f"VIEW {body}") for n, kept, body, full in views if n.startswith(prefix)),
        triggers=tuple(Trigger(n, t[len(prefix):], "", "", body) for n, t, body in triggers if t.startswith(prefix)),
        counters={str(n): int(last or 0) for n, last in counters},  # 0: it has given out none
        before=before, leaning=tuple((str(n), str(sql)) for _, n, sql in leaning), after=after, rights=rights)


def _listed(kinds: Sequence[list[tuple[Any, ...]]]) -> tuple[tuple[str, str], ...]:
    return tuple((str(n), str(sql)) for rows in kinds for n, sql in rows)


def _schema(database: PostgresWriting) -> str:
    return str(database.run("SELECT current_schema()")[0][0])


def placed(sql: str, old: str, new: str) -> str:
    """A statement that names its schema, in another. What functions say is theirs, too, literals included: a copy's
    must not write into live's tables."""
    if old == new:
        return sql
    name = rf"(?<![\w.\"$])(?:{re.escape(old)}|{re.escape(quote(old))})"
    pattern = re.compile(rf"{name}(?=\.)")
    if _ROUTINE.match(sql):
        return pattern.sub(lambda _: quote(new), sql)
    if sql.startswith(("GRANT ", "ALTER DEFAULT PRIVILEGES ")):
        pattern = re.compile(rf"{name}(?=\.)|(?<=SCHEMA ){name}(?= )")
    return "".join(part if at % 2 else pattern.sub(lambda _: quote(new), part)
                   for at, part in enumerate(_LITERAL.split(sql)))


def build(target: PostgresWriting, wanted: Outline) -> None:
    """Make types, functions and tables, empty; no indexes and no foreign keys yet, which would make filling slow."""
    target.run("SET check_function_bodies = off")
    schema, here = str(wanted.settings.get("schema", "public")), _schema(target)
    beside = target.schema.partition(",")[2]  # where the site's own types and functions are, which are used
    if beside:
        leaning = _not_there(target, beside, [(n, placed(sql, schema, beside)) for n, sql in wanted.leaning])
        statements = _not_there(target, beside, [(n, placed(sql, schema, beside)) for n, sql in wanted.before])
    else:
        leaning = [placed(sql, schema, here) for _, sql in wanted.leaning]
        statements = [placed(sql, schema, here) for _, sql in wanted.before]
    tables = [[sql for sql in table.ddl.split(AND_THEN) if not _is_late(sql)] for table in wanted.tables]
    # A table inherits from one that is made here, not from one of that name which is found elsewhere.
    tables = [[_HEIR.sub(lambda m: m.group(1) + m.group(2).replace('"', f'{quote(here)}."', 1).replace(
        ', "', f', {quote(here)}."'), sql) for sql in parts] for parts in tables]
    tables = [[at_home(sql, here) for sql in parts] for parts in tables]
    if beside:  # a sequence that belongs to no table is the site's own, and stays
        owned = {m.group(1) for parts in tables for sql in parts if (m := _OWNED.match(sql))}
        tables = [[sql for sql in parts if not (m := _UNOWNED.match(sql)) or m.group(1) in owned] for parts in tables]
    first = [sql for sql in statements if sql.startswith(_FIRST)]
    unmade = _tried(target, [[sql] for sql in first])
    target.look_again()
    groups = [*([sql] for sql in statements if sql not in first), *tables, *([sql] for sql in leaning)]
    left = _tried(target, groups, _THERE if beside else ())
    needed = [(group, error) for group, error in left if not group[0].startswith("CREATE CAST ")]
    if needed:
        raise _refused(*needed[0], [f"{group[0]}: {_said(error)}" for group, error in unmade])


def _refused(group: Sequence[str], error: psycopg.Error, unmade: Sequence[str] = ()) -> MergeRefused:
    what = " ".join(group[-1 if group[0].startswith("CREATE SEQUENCE") else 0].split())[:90]
    more = f" Before that: {unmade[0]}." if unmade else ""
    return MergeRefused(f"A part of the site's schema cannot be made there: {_said(error)} (at: {what} ...).{more}",
                        next_step="Run `nostos survey`: it tells what cannot be carried, and what to do about it.")


def _said(error: psycopg.Error) -> str:
    return (error.diag.message_primary or str(error)).strip().splitlines()[0]


def _not_there(target: PostgresWriting, schema: str, before: Sequence[tuple[str, str]]) -> list[str]:
    """Of statements, those whose object the site may not have; it has the same functions. Raises MergeRefused where it
    has another of that name."""
    functions = {str(sql) for _, sql in target.run(objects.FUNCTIONS.replace(HERE, "%s::regnamespace"),
                                                   (quote(schema),))}
    heads = {sql.partition("\n")[0] for sql in functions}
    missing = []
    for name, sql in before:
        if _ROUTINE.match(sql) and sql not in functions and sql.partition("\n")[0] in heads:
            raise MergeRefused(f"The function {name} is another now than in the backup.",
                               next_step="Put it back by hand, then restore again.")
        if sql not in functions:
            missing.append(sql)
    return missing


def finish(target: PostgresWriting, wanted: Outline) -> None:
    """Counters, indexes, foreign keys, views and triggers, and what is attached to all of these."""
    schema, here = str(wanted.settings.get("schema", "public")), _schema(target)
    beside = target.schema.partition(",")[2]
    names = {str(n) for (n,
        ) in target.run(f"SELECT relname FROM pg_class WHERE relkind = 'S' AND relnamespace = {HERE}")}
    for name, number in wanted.counters.items():
        if number and name in names:
            target.run("SELECT setval(%s::regclass, %s)", (target.in_schema(name), number))
        elif number and beside:  # the site's own, which gives numbers out meanwhile: it goes on, and never back
            place = f"{quote(beside)}.{quote(name)}"
            if target.run("SELECT to_regclass(%s)", (place,))[0][0] is not None:
                target.run(f"SELECT setval(%s::regclass, GREATEST(last_value, %s)) FROM {place}", (place, number))
    for table in wanted.tables:
        for _, sql in table.indexes:
            target.run_one(at_home(sql, here))
    for table in wanted.tables:
        for sql in filter(_is_late, table.ddl.split(AND_THEN)):
            # What a copy would point at in other schemas is not there, or is live's, which it would hold on to.
            if beside or not _LEADS_OUT.search(sql):
                target.run_one(at_home(sql, here))
    views = [[f"CREATE {what}{quote(target.prefix + name)} AS {rest}"] for name, body in wanted.views
             for what, rest in (parted(body),)]
    last = [[placed(t.body, schema, here)] for t in wanted.triggers]
    last += [[placed(sql, schema, here)] for _, sql in wanted.after]
    # In a restore, what is said of types and functions is said of the site's own already.
    for groups in (views, last):
        left = _tried(target, groups, (*_THERE, *_NOT_THERE) if beside else ())
        if left:
            raise _refused(*left[0])
    if here != schema and not beside:
        held = target.run(f"{objects.HOLDING_ON} LIMIT 1", (schema, schema, here, schema))
        if held:
            raise MergeRefused(f"In a schema beside live's, {held[0][0]} would rest on live's own tables.",
                               next_step="Name a database of its own for the copy, with --database.")
    _tried(target, [[placed(sql, schema, here)] for _, sql in wanted.rights])
    target.run("ANALYZE")


def parted(body: str) -> tuple[str, str]:
    for what in ("MATERIALIZED VIEW ", "VIEW "):
        if body.startswith(what):
            return what, body[len(what):]
    return "VIEW ", body


def _is_late(sql: str) -> bool:
    return sql.startswith("ALTER TABLE ") and (" FOREIGN KEY " in sql or sql.endswith(" NOT VALID"))


def _tried(target: PostgresWriting, groups: Sequence[Sequence[str]], done: Sequence[str] = ()
           ) -> list[tuple[Sequence[str], psycopg.Error]]:
    """Run statements, each group as a whole, which may rest on each other, in whatever order they can be. done: errors
    that mean that nothing is to be done. Returns the groups that cannot be run, and why."""
    waiting = list(groups)
    while True:
        left: list[tuple[Sequence[str], psycopg.Error]] = []
        for group in waiting:
            try:
                _run(target, group)
            except psycopg.Error as error:
                if error.sqlstate not in done:
                    left.append((group, error))
        if not left or len(left) == len(waiting):
            return left
        waiting = [group for group, _ in left]


def _run(target: PostgresWriting, group: Sequence[str]) -> None:
    if len(group) == 1 and not target.in_transaction:
        target.run_one(group[0])
        return
    inside = target.in_transaction
    with target.holding_on() if inside else nullcontext():
        if not inside:
            target.run("BEGIN")
        try:
            for sql in group:
                target.run_one(sql)
            if not inside:
                target.run("COMMIT")
        except psycopg.Error:
            with suppress(psycopg.Error):
                if not inside:
                    target.run("ROLLBACK")
            raise
