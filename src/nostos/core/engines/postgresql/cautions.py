"""What a PostgreSQL server, or a schema on it, does not let a copy or a merge have: told before anything is done."""

from __future__ import annotations

from collections.abc import Iterator

from nostos.core.database.protocol import EngineCaution
from nostos.core.engines.postgresql.objects import ELSEWHERE, LANGUAGES
from nostos.core.engines.postgresql.reflection import HERE, not_brought
from nostos.core.engines.postgresql.writing import PostgresWriting

_OURS = f"c.relnamespace = {HERE} AND {not_brought('c.oid', 'pg_class')}"
_SAID = (
    (f"SELECT c.relname FROM pg_class c WHERE {_OURS} AND c.relkind = 'f' AND NOT c.relispartition",
     "Foreign tables are not copied: {}.", "What they hold is on another server.", "Make them in the copy by hand."),
    ("SELECT n.nspname || ' (' || count(*) || ' tables)' FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace "
     f"WHERE c.relkind IN ('r', 'p') AND NOT c.relispartition AND n.oid <> {HERE} AND n.nspname NOT LIKE 'pg\\_%' "
     f"AND n.nspname NOT IN ('information_schema', 'public') AND {not_brought('c.oid', 'pg_class')} AND "
     "has_schema_privilege(n.oid, 'USAGE') GROUP BY n.nspname ORDER BY 1",
     "Tables in other schemas of this database are not the site's: {}.",
     "A site's tables are those of the first schema in its search path; the others are not copied and not merged.",
     "Where one of them is the site's, too, make a site file for it with ?schema=NAME."),
    (ELSEWHERE, "The site's tables rest on what is in other schemas: {}.",
     "A copy in a database of its own would not have it: it is made in a schema of the same database.",
     "Leave --database out, or name one with ?schema=NAME."),
    ("SELECT DISTINCT c.relname || ' -> ' || n.nspname || '.' || f.relname FROM pg_constraint k JOIN pg_class c "
     "ON c.oid = k.conrelid JOIN pg_class f ON f.oid = k.confrelid JOIN pg_namespace n ON n.oid = f.relnamespace "
     f"WHERE {_OURS} AND f.relnamespace <> c.relnamespace",
     "Foreign keys lead to tables in other schemas: {}.",
     "A copy has nothing of its own for them to point at: these keys are left out of it.",
     "Nothing is to be done; live keeps them."),
    (f"SELECT c.relname FROM pg_class c WHERE {_OURS} AND c.relkind IN ('r', 'p') AND "
     "NOT pg_has_role(c.relowner, 'MEMBER') ORDER BY 1",
     "Tables belong to a role that this user is no member of: {}.",
     "They can be copied, as far as they may be read, but not changed by a merge; the copy's belong to this user.",
     "Name the tables' owner in a site file, or ask for membership."),
    (f"SELECT c.relname FROM pg_class c WHERE {_OURS} AND c.relrowsecurity AND row_security_active(c.oid)",
     "Row security hides rows from this user: {}.",
     "Rows that cannot be read cannot be copied, and nothing is read in part.",
     "Name the tables' owner in a site file, or a role with BYPASSRLS."),
    ("SELECT DISTINCT c.relname || '.' || r.rulename FROM pg_rewrite r JOIN pg_class c ON c.oid = r.ev_class "
     f"WHERE {_OURS} AND c.relkind IN ('r', 'p')",
     "Rules change what is done to tables: {}.",
     "They are copied, and act on what a merge writes, too; what they write besides is not compared first.",
     "Look at these tables after a merge, or replace the rules by triggers."),
    ("SELECT DISTINCT c.relname FROM pg_class c JOIN pg_attribute a ON a.attrelid = c.oid AND NOT a.attisdropped "
     f"JOIN pg_type t ON t.oid = a.atttypid AND t.typname IN ('oid', 'lo') WHERE {_OURS} AND c.relkind = 'r' "
     "AND a.attnum > 0", "Large objects are not copied; these tables may name some: {}.",
     "The copy's would lead nowhere.", "Keep such files in a column, or outside of the database."),
    ("SELECT p.oid::regprocedure::text FROM pg_proc p LEFT JOIN pg_aggregate a ON a.aggfnoid = p.oid "
     f"WHERE p.pronamespace = {HERE} AND {not_brought('p.oid', 'pg_proc')} AND (p.prolang NOT IN ({LANGUAGES}) "
     "AND p.prokind <> 'a' OR a.aggkind <> 'n')",
     "Functions in languages that only the server's administrator may use, and aggregates over ordered sets, are not "
     "copied: {}.", "What rests on them fails in the copy.", "Have them made there by hand, in template1 or the copy."),
    (f"SELECT o.opcname FROM pg_opclass o WHERE o.opcnamespace = {HERE} AND {not_brought('o.oid', 'pg_opclass')} "
     "UNION ALL SELECT t.typname FROM pg_type t WHERE t.typnamespace = "
     f"{HERE} AND t.typtype = 'b' AND t.typelem = 0 AND {not_brought('t.oid', 'pg_type')}",
     "Operator classes and types of the server's own code are not copied: {}.", "What rests on them fails in the copy.",
     "Have them made there by hand, or keep them in an extension."))


def cautions(database: PostgresWriting) -> Iterator[EngineCaution]:
    """What is to be known of this database before it is cloned or merged into."""
    if database.run("SELECT pg_is_in_recovery()")[0][0]:
        yield EngineCaution("This server is a replica.", "Nothing can be written to it, and nothing merged home.",
                            "Name the server that it follows in the site's configuration.")
    tables, schemas, databases, name = database.run(
        "SELECT has_schema_privilege(current_schema(), 'CREATE'), has_database_privilege(current_database(), "
        "'CREATE'), (SELECT rolcreatedb OR rolsuper FROM pg_roles WHERE rolname = current_user), "
        "quote_ident(current_schema())")[0]
    if not tables:
        yield EngineCaution(f"The user may not make tables in the schema {name}.",
                            "A merge says there that it is unfinished, so that nobody goes on where it stopped.",
                            f"Ask for GRANT CREATE ON SCHEMA {name}.", host=True, obstacle=True)
    if not schemas:
        more = "" if databases else " Nor may it make a database: there is no place for a copy but one that is named."
        yield EngineCaution(f"The user may not make schemas in this database.{more}",
                            "A restore fills a schema of its own before it takes the tables' place.",
                            "Ask for GRANT CREATE ON DATABASE, or for a database of the copy's own (--database).",
                            host=True)
    for sql, what, why, remedy in _SAID:
        names = [str(n) for (n,) in database.run(sql)]
        if names:
            more = f" and {len(names) - 10} more" if len(names) > 10 else ""
            yield EngineCaution(what.format(", ".join(names[:10]) + more), why, remedy)
