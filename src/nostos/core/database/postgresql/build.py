"""The outline of a server's schema, and building one from it."""

from __future__ import annotations

from collections.abc import Iterable

import psycopg

from nostos.core.database.outline import Outline, Trigger
from nostos.core.database.postgresql.reflection import AND_THEN, SEQUENCES, quote
from nostos.core.database.postgresql.writing import PostgresWriting
from nostos.core.errors import MergeRefused

_HERE = "current_schema()::regnamespace"
_EXTENSIONS = "SELECT extname FROM pg_extension WHERE extname <> 'plpgsql' ORDER BY extname"
_OWN = "NOT EXISTS (SELECT 1 FROM pg_depend d WHERE d.objid = {0}.oid AND d.deptype = 'e')"
_ENUMS = ("SELECT t.typname, string_agg(quote_literal(e.enumlabel), ', ' ORDER BY e.enumsortorder) FROM pg_type t "
          f"JOIN pg_enum e ON e.enumtypid = t.oid WHERE t.typnamespace = {_HERE} AND {_OWN.format('t')} "
          "GROUP BY t.typname ORDER BY t.typname")
_DOMAINS = ("SELECT t.typname, format_type(t.typbasetype, t.typtypmod), t.typnotnull, t.typdefault, "
            "(SELECT string_agg('CONSTRAINT ' || quote_ident(k.conname) || ' ' || pg_get_constraintdef(k.oid), ' ') "
            "FROM pg_constraint k WHERE k.contypid = t.oid AND k.contype = 'c') FROM pg_type t "
            f"WHERE t.typtype = 'd' AND t.typnamespace = {_HERE} AND {_OWN.format('t')} ORDER BY t.oid")
_COMPOSITES = ("SELECT t.typname, string_agg(quote_ident(a.attname) || ' ' || format_type(a.atttypid, a.atttypmod), "
               "', ' ORDER BY a.attnum) FROM pg_type t JOIN pg_class c ON c.oid = t.typrelid AND c.relkind = 'c' "
               "JOIN pg_attribute a ON a.attrelid = c.oid AND a.attnum > 0 AND NOT a.attisdropped "
               f"WHERE t.typnamespace = {_HERE} AND {_OWN.format('t')} GROUP BY t.oid, t.typname ORDER BY t.oid")
_FUNCTIONS = ("SELECT p.oid::regprocedure::text, pg_get_functiondef(p.oid) FROM pg_proc p JOIN pg_language l "
              f"ON l.oid = p.prolang WHERE p.pronamespace = {_HERE} AND p.prokind IN ('f', 'p') "
              f"AND l.lanname IN ('sql', 'plpgsql') AND {_OWN.format('p')} ORDER BY p.oid")
_VIEWS = ("SELECT relname, relkind = 'm', pg_get_viewdef(oid) FROM pg_class "
          f"WHERE relnamespace = {_HERE} AND relkind IN ('v', 'm') AND {_OWN.format('pg_class')} ORDER BY oid")
_TRIGGERS = ("SELECT t.tgname, c.relname, pg_get_triggerdef(t.oid) FROM pg_trigger t "
             "JOIN pg_class c ON c.oid = t.tgrelid "
             f"WHERE NOT t.tgisinternal AND c.relnamespace = {_HERE} ORDER BY c.relname, t.tgname")


def outline(database: PostgresWriting) -> Outline:
    """Everything of a schema but its rows."""
    prefix = database.prefix
    before = [(n, f"CREATE EXTENSION IF NOT EXISTS {quote(n)}") for (n,) in database.run(_EXTENSIONS)]
    before += [(n, f"CREATE TYPE {quote(n)} AS ENUM ({labels})") for n, labels in database.run(_ENUMS)]
    for name, base, solid, default, checks in database.run(_DOMAINS):
        before.append((name, f"CREATE DOMAIN {quote(name)} AS {base}" + (f" DEFAULT {default}" if default else "")
                       + (" NOT NULL" if solid else "") + (f" {checks}" if checks else "")))
    before += [(n, f"CREATE TYPE {quote(n)} AS ({parts})") for n, parts in database.run(_COMPOSITES)]
    before += database.run(_FUNCTIONS)
    counters = {str(n): int(last) for n, *_, last in database.run(SEQUENCES) if last is not None}
    return Outline(
        "postgresql", database.name, prefix, tuple(database.tables().values()), {"schema": _schema(database)},
        views=tuple((n[len(prefix):], f"{'MATERIALIZED VIEW' if kept else 'VIEW'} {body}")
                    for n, kept, body in database.run(_VIEWS) if n.startswith(prefix)),
        triggers=tuple(Trigger(n, t[len(prefix):], "", "", body) for n, t, body in database.run(_TRIGGERS)
                       if t.startswith(prefix)),
        counters=counters, before=tuple((str(n), str(sql)) for n, sql in before))


def _schema(database: PostgresWriting) -> str:
    return str(database.run("SELECT current_schema()")[0][0])


def build(target: PostgresWriting, wanted: Outline) -> None:
    """Make types, functions and tables, empty; no indexes and no foreign keys yet, which would make filling slow."""
    target.run("SET check_function_bodies = off")
    schema, here = str(wanted.settings.get("schema", "public")), _schema(target)

    def placed(sql: str) -> str:
        """A statement that names its schema, in this one."""
        return sql if schema == here else sql.replace(f" {schema}.", f" {quote(here)}.")

    beside = target.schema.partition(",")[2]
    before = _not_there(target, beside, wanted) if beside else [placed(sql) for _, sql in wanted.before]
    waiting = _tried(target, before)
    for table in wanted.tables:
        for sql in table.ddl.split(AND_THEN):
            if not _is_foreign(sql):
                target.run(sql)
    left = _tried(target, waiting)
    if left:
        target.run(left[0])  # says why not


def _not_there(target: PostgresWriting, schema: str, wanted: Outline) -> list[str]:
    """Of types and functions, those that the site itself does not have. Raises MergeRefused where it has another of
    that name."""
    types = {str(n) for (n,) in target.run("SELECT typname FROM pg_type WHERE typnamespace = %s::regnamespace",
                                           (quote(schema),))}
    functions = {str(sql) for _, sql in target.run(_FUNCTIONS.replace(_HERE, "%s::regnamespace"), (quote(schema),))}
    heads = {sql.partition("\n")[0] for sql in functions}
    missing = []
    for name, sql in wanted.before:
        if name in types or sql in functions:
            continue
        if sql.partition("\n")[0] in heads:
            raise MergeRefused(f"The function {name} is another now than in the backup.",
                               next_step="Put it back by hand, then restore again.")
        missing.append(sql if sql.startswith(("CREATE OR REPLACE", "CREATE EXTENSION")) else
                       sql.replace(f" {quote(name)} AS ", f" {quote(schema)}.{quote(name)} AS ", 1))
    return missing


def finish(target: PostgresWriting, wanted: Outline) -> None:
    """Counters, indexes, foreign keys, views and triggers."""
    for name, number in wanted.counters.items():
        target.run("SELECT setval(%s, %s)", (quote(name), number))
    for table in wanted.tables:
        for _, sql in table.indexes:
            target.run(sql)
    for table in wanted.tables:
        for sql in filter(_is_foreign, table.ddl.split(AND_THEN)):
            target.run(sql)
    views = [f"CREATE {what}{quote(target.prefix + name)} AS {rest}" for name, body in wanted.views
             for what, rest in (parted(body),)]
    left = _tried(target, views)
    if left:
        target.run(left[0])
    schema, here = str(wanted.settings.get("schema", "public")), _schema(target)
    for trigger in wanted.triggers:
        target.run(trigger.body if schema == here else trigger.body.replace(f" ON {schema}.", f" ON {quote(here)}."))
    target.run("ANALYZE")


def parted(body: str) -> tuple[str, str]:
    for what in ("MATERIALIZED VIEW ", "VIEW "):
        if body.startswith(what):
            return what, body[len(what):]
    return "VIEW ", body


def _is_foreign(sql: str) -> bool:
    return sql.startswith("ALTER TABLE ") and " FOREIGN KEY " in sql


def _tried(target: PostgresWriting, statements: Iterable[str]) -> list[str]:
    """Run statements that may rest on each other, in whatever order they can be. Returns those that cannot."""
    waiting = list(statements)
    while waiting:
        left = []
        for sql in waiting:
            try:
                if target.in_transaction:
                    with target.holding_on():
                        target.run(sql)
                else:
                    target.run(sql)
            except psycopg.Error:
                left.append(sql)
        if len(left) == len(waiting):
            return left
        waiting = left
    return []
