"""What a PostgreSQL server, or a schema on it, does not let a copy or a merge have: told before anything is done."""

from __future__ import annotations

from collections.abc import Iterator

from nostos.core.database.postgresql.writing import PostgresWriting
from nostos.core.database.protocol import EngineCaution

_HERE = "current_schema()::regnamespace"


def cautions(database: PostgresWriting) -> Iterator[EngineCaution]:
    def names(sql: str) -> str:
        return ", ".join(str(n) for (n,) in database.run(sql)[:10])

    if database.run("SELECT pg_is_in_recovery()")[0][0]:
        yield EngineCaution("This server is a replica.", "Nothing can be written to it, and nothing merged home.",
                            "Name the server that it follows in the site's configuration.")
    said = (
        (f"SELECT relname FROM pg_class WHERE relnamespace = {_HERE} AND relkind = 'f'",
         "Foreign tables are not copied: {}.", "What they hold is on another server.",
         "Make them in the copy by hand."),
        (f"SELECT c.relname FROM pg_class c JOIN pg_inherits i ON i.inhrelid = c.oid WHERE c.relnamespace = {_HERE} "
         "AND NOT c.relispartition", "Tables that inherit from others are copied as tables of their own: {}.",
         "What is read of the table above holds their rows, too, so both would be written.",
         "Do not merge rows of these."),
        (f"SELECT relname FROM pg_class WHERE relnamespace = {_HERE} AND relrowsecurity",
         "Row security is not copied: {}.", "A user whom it hides rows from would copy only some of them.",
         "Work as the tables' owner, and make the policies in the copy by hand."),
        ("SELECT DISTINCT tablename || '.' || rulename FROM pg_rules WHERE schemaname = current_schema()",
         "Rules are not copied: {}.", "They change what statements do.", "Make them in the copy by hand."),
        (f"SELECT DISTINCT relname FROM pg_class c JOIN pg_attribute a ON a.attrelid = c.oid AND NOT a.attisdropped "
         f"AND a.atttypid IN ('oid'::regtype, 'lo'::regtype) WHERE c.relnamespace = {_HERE} AND c.relkind = 'r' "
         "AND a.attnum > 0" if database.run("SELECT 1 FROM pg_type WHERE typname = 'lo'") else
         f"SELECT DISTINCT relname FROM pg_class c JOIN pg_attribute a ON a.attrelid = c.oid AND NOT a.attisdropped "
         f"AND a.atttypid = 'oid'::regtype WHERE c.relnamespace = {_HERE} AND c.relkind = 'r' AND a.attnum > 0",
         "Large objects are not copied; these tables may name some: {}.", "The copy's would lead nowhere.",
         "Keep such files in a column, or outside of the database."),
        (f"SELECT p.proname FROM pg_proc p JOIN pg_language l ON l.oid = p.prolang WHERE p.pronamespace = {_HERE} "
         "AND l.lanname NOT IN ('sql', 'plpgsql', 'c', 'internal')", "Functions in other languages are not copied: {}.",
         "What rests on them fails in the copy.", "Make them there by hand."))
    for sql, what, why, remedy in said:
        found = names(sql)
        if found:
            yield EngineCaution(what.format(found), why, remedy)
