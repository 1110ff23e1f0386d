"""The tables of a PostgreSQL schema as its catalogue has them, and the statements that make them."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

from nostos.core.database.schema import Column, ForeignKey, Table
from nostos.core.expressions import expression

# What the statements are that make one table.
AND_THEN = "\n--;\n"  # between the statements that make one table
_SCHEMA = expression(r' ON (ONLY )?(?:"(?:[^"]|"")*"|[^".( ]+)\.')
_OF_TABLE = expression(
    r'^((?:ALTER TABLE|ALTER SEQUENCE|COMMENT ON TABLE|COMMENT ON COLUMN|CREATE TABLE "(?:[^"]|"")*" PARTITION OF|'
    r'CREATE (?:UNIQUE )?INDEX (?:"(?:[^"]|"")*"|[^"\s]+) ON) )(?="|[^".( ]+[ (])')
_KINDS = {"int2": "int", "int4": "int", "int8": "int", "bytea": "binary", "float4": "float", "float8": "float"}
INCOMPARABLE = ("json", "xml", "point", "polygon", "box", "path", "line", "lseg", "circle")  # types without equality
HERE = "quote_ident(current_schema())::regnamespace"


def not_brought(what: str, catalogue: str) -> str:
    """A condition: an object of this catalogue was not brought by an extension, which brings it again, nor a function,
    type or cast by another type. what: its oid."""
    ways = "= 'e'" if catalogue == "pg_class" else "IN ('e', 'i')"
    return (f"NOT EXISTS (SELECT 1 FROM pg_depend e WHERE e.classid = '{catalogue}'::regclass AND e.objid = {what} "
            f"AND e.deptype {ways})")


_OF = f"c.relnamespace = {HERE} AND {not_brought('c.oid', 'pg_class')}"
# A table's name; of a partition that of the table that it is a part of, however deep.
_ROOT = "CASE WHEN c.relispartition THEN (SELECT r.relname FROM pg_class r WHERE r.oid = pg_partition_root(c.oid)) " \
        "ELSE c.relname END"
_BASE = ("CASE WHEN t.typtype = 'd' THEN (SELECT b.typname FROM pg_type b WHERE b.oid = t.typbasetype) "
         "ELSE t.typname END")
OPTIONS = ("'AS ' || format_type(q.seqtypid, NULL) || ' INCREMENT BY ' || q.seqincrement || ' MINVALUE ' || q.seqmin "
           "|| ' MAXVALUE ' || q.seqmax || ' START WITH ' || q.seqstart || ' CACHE ' || q.seqcache "
           "|| CASE WHEN q.seqcycle THEN ' CYCLE' ELSE '' END")

TABLES = ("SELECT c.oid::bigint, c.relname, c.relpersistence = 'u', c.relkind = 'p', "
          "CASE WHEN c.relkind = 'p' THEN pg_get_partkeydef(c.oid) END, obj_description(c.oid, 'pg_class'), "
          "array_to_string(c.reloptions, ', '), ARRAY(SELECT p.relname::text FROM pg_inherits i JOIN pg_class p "
          "ON p.oid = i.inhparent WHERE i.inhrelid = c.oid ORDER BY i.inhseqno) "
          f"FROM pg_class c WHERE {_OF} AND c.relkind IN ('r', 'p') AND NOT c.relispartition ORDER BY c.relname")
# Every partition below a table, those above first; one may be in another schema: the copy's is not.
PARTITIONS = (f"SELECT {_ROOT}, c.relname, p.relname, pg_get_expr(c.relpartbound, c.oid), "
              "CASE WHEN c.relkind = 'p' THEN pg_get_partkeydef(c.oid) END, "
              "ARRAY(SELECT format('ALTER TABLE %I ALTER COLUMN %I %s', c.relname, a.attname, "
              "COALESCE('SET DEFAULT ' || pg_get_expr(d.adbin, d.adrelid), 'DROP DEFAULT')) FROM pg_attribute a "
              "LEFT JOIN pg_attrdef d ON d.adrelid = a.attrelid AND d.adnum = a.attnum "
              "JOIN pg_attribute b ON b.attrelid = p.oid AND b.attname = a.attname "
              "LEFT JOIN pg_attrdef f ON f.adrelid = b.attrelid AND f.adnum = b.attnum "
              "WHERE a.attrelid = c.oid AND a.attnum > 0 AND NOT a.attisdropped AND a.attgenerated = '' "
              "AND a.attidentity = '' AND b.attidentity = '' AND pg_get_expr(d.adbin, d.adrelid) IS DISTINCT FROM "
              "pg_get_expr(f.adbin, f.adrelid)), "
              "ARRAY(SELECT format('ALTER TABLE %I ADD CONSTRAINT %I %s', c.relname, k.conname, "
              "pg_get_constraintdef(k.oid)) FROM pg_constraint k WHERE k.conrelid = c.oid AND k.conislocal "
              "AND k.coninhcount = 0 AND k.conparentid = 0 AND k.contype IN ('p', 'u', 'c', 'x', 'f') "
              "ORDER BY k.contype = 'f', k.conname) "
              "FROM pg_class c JOIN pg_inherits i ON i.inhrelid = c.oid JOIN pg_class p ON p.oid = i.inhparent "
              "JOIN pg_class r ON r.oid = pg_partition_root(c.oid) "
              f"WHERE r.relnamespace = {HERE} AND c.relispartition AND c.relkind IN ('r', 'p', 'f') "
              "ORDER BY (SELECT count(*) FROM pg_partition_ancestors(c.oid)), c.oid")
COLUMNS = ("SELECT c.relname, a.attname, format_type(a.atttypid, a.atttypmod), "
           f"{_BASE}, NOT a.attnotnull, pg_get_expr(d.adbin, d.adrelid), a.attidentity, a.attgenerated, "
           "CASE WHEN a.attcollation <> t.typcollation THEN quote_ident(n.nspname) || '.' || quote_ident(l.collname) "
           "END, a.attislocal, col_description(c.oid, a.attnum) "
           "FROM pg_class c JOIN pg_attribute a ON a.attrelid = c.oid AND a.attnum > 0 AND NOT a.attisdropped "
           "JOIN pg_type t ON t.oid = a.atttypid LEFT JOIN pg_attrdef d ON d.adrelid = c.oid AND d.adnum = a.attnum "
           "LEFT JOIN pg_collation l ON l.oid = a.attcollation LEFT JOIN pg_namespace n ON n.oid = l.collnamespace "
           f"WHERE {_OF} AND c.relkind IN ('r', 'p') AND NOT c.relispartition ORDER BY c.relname, a.attnum")
CONSTRAINTS = ("SELECT c.relname, k.conname, k.contype, pg_get_constraintdef(k.oid), "
               "ARRAY(SELECT a.attname::text FROM unnest(k.conkey) WITH ORDINALITY u(n, o) JOIN pg_attribute a "
               "ON a.attrelid = k.conrelid AND a.attnum = u.n ORDER BY u.o), f.relname, "
               "ARRAY(SELECT a.attname::text FROM unnest(k.confkey) WITH ORDINALITY u(n, o) JOIN pg_attribute a "
               "ON a.attrelid = k.confrelid AND a.attnum = u.n ORDER BY u.o), f.relnamespace = c.relnamespace "
               "FROM pg_constraint k JOIN pg_class c ON c.oid = k.conrelid LEFT JOIN pg_class f ON f.oid = k.confrelid "
               f"WHERE {_OF} AND NOT c.relispartition AND k.contype IN ('p', 'u', 'c', 'x', 'f') AND k.conislocal "
               "AND k.conparentid = 0 ORDER BY c.relname, k.contype <> 'p', k.conname")
# The indexes of partitions, too, but for those that their table's bring with them.
INDEXES = (f"SELECT {_ROOT}, i.relname, pg_get_indexdef(i.oid), x.indisunique AND x.indpred IS NULL AND "
           "x.indexprs IS NULL AND NOT c.relispartition, ARRAY(SELECT a.attname::text FROM unnest(x.indkey) WITH "
           "ORDINALITY u(n, o) JOIN pg_attribute a ON a.attrelid = c.oid AND a.attnum = u.n "
           "WHERE u.o <= x.indnkeyatts ORDER BY u.o) FROM pg_index x "
           f"JOIN pg_class c ON c.oid = x.indrelid JOIN pg_class i ON i.oid = x.indexrelid WHERE {_OF} "
           "AND c.relkind IN ('r', 'p') AND NOT EXISTS (SELECT 1 FROM pg_inherits h WHERE h.inhrelid = i.oid) "
           "AND NOT EXISTS (SELECT 1 FROM pg_constraint k WHERE k.conindid = i.oid "
           "AND k.contype IN ('p', 'u', 'x')) ORDER BY 1, i.relname")
# What gives numbers out for a column: one that belongs to it ("a": serial, "i": identity), or one that its default
# names ("n"), which may serve several tables.
SEQUENCES = ("SELECT c.relname, a.attname, s.relname, " + OPTIONS + ", d.deptype::text FROM pg_sequence q "
             "JOIN pg_class s ON s.oid = q.seqrelid JOIN pg_depend d ON d.classid = 'pg_class'::regclass "
             "AND d.objid = s.oid AND d.refclassid = 'pg_class'::regclass AND d.refobjsubid > 0 "
             "AND d.deptype IN ('a', 'i') JOIN pg_class c ON c.oid = d.refobjid JOIN pg_attribute a "
             f"ON a.attrelid = c.oid AND a.attnum = d.refobjsubid WHERE {_OF} AND NOT c.relispartition "
             "UNION ALL SELECT c.relname, a.attname, s.relname, " + OPTIONS + ", 'n' FROM pg_sequence q "
             "JOIN pg_class s ON s.oid = q.seqrelid JOIN pg_depend d ON d.refclassid = 'pg_class'::regclass "
             "AND d.refobjid = s.oid AND d.classid = 'pg_attrdef'::regclass JOIN pg_attrdef f ON f.oid = d.objid "
             "JOIN pg_class c ON c.oid = f.adrelid JOIN pg_attribute a ON a.attrelid = c.oid AND a.attnum = f.adnum "
             f"WHERE {_OF} AND NOT c.relispartition AND s.relnamespace = c.relnamespace AND NOT EXISTS ("
             "SELECT 1 FROM pg_depend o WHERE o.classid = 'pg_class'::regclass AND o.objid = s.oid "
             "AND o.refobjid = c.oid AND o.refobjsubid = a.attnum AND o.deptype IN ('a', 'i')) ORDER BY 1, 3")
STATEMENTS = (TABLES, PARTITIONS, COLUMNS, CONSTRAINTS, INDEXES, SEQUENCES)


def quote(name: str) -> str:
    """An identifier, quoted for SQL."""
    return '"' + name.replace('"', '""') + '"'


def literal(text: str) -> str:
    """Text, quoted for SQL."""
    quoted = "'" + text.replace("'", "''") + "'"
    return "E" + quoted.replace("\\", "\\\\") if "\\" in text else quoted


def at_home(sql: str, schema: str) -> str:
    """A statement of a table's or an index's own, for the table in this schema and no other of its name."""
    return _OF_TABLE.sub(lambda m: f"{m.group(1)}{quote(schema)}.", sql, count=1)


def tables_of(rows: Sequence[list[tuple[Any, ...]]], prefix: str, hidden: Sequence[str]) -> dict[str, Table]:
    """Every table by name, without the prefix. rows: what `STATEMENTS` give. hidden: names that are no site's."""
    tables, *rest = rows
    by = [_by(part) for part in rest]
    result = {}
    for _, name, unlogged, _, partition_key, comment, options, parents in tables:
        if name.startswith(prefix) and name not in hidden:
            head = _Head(name, prefix, bool(unlogged), partition_key, comment, options, tuple(parents))
            result[name[len(prefix):]] = _table(head, *(group.get(name, []) for group in by))
    return result


def _by(rows: Sequence[tuple[Any, ...]]) -> dict[str, list[tuple[Any, ...]]]:
    groups: dict[str, list[tuple[Any, ...]]] = {}
    for name, *rest in rows:
        groups.setdefault(name, []).append(tuple(rest))
    return groups


def kind_of(base: str) -> str:
    """How a type's values travel: all but numbers and bytes as text."""
    return _KINDS.get(base, "text")


class _Head:
    """What is said of a table as a whole."""

    def __init__(self, name: str, prefix: str, unlogged: bool, partition_key: str | None, comment: str | None,
                 options: str | None, parents: tuple[str, ...]) -> None:
        self.name, self.prefix = name, prefix
        self.unlogged, self.partition_key, self.comment = unlogged, partition_key, comment
        self.options, self.parents = options, parents


def _table(head: _Head, partitions: list[tuple[Any, ...]], columns: list[tuple[Any, ...]],
           constraints: list[tuple[Any, ...]], indexes: list[tuple[Any, ...]],
           sequences: list[tuple[Any, ...]]) -> Table:
    prefix = head.prefix
    made = tuple(Column(c, declared, bool(nullable) and not identity, default, bool(generated), base, kind_of(base))
                 for c, declared, base, nullable, default, identity, generated, *_ in columns)
    given_out = {c for c, _, base, _, default, identity, *_ in columns
                 if kind_of(base) == "int" and (identity or "nextval(" in (default or ""))}
    key = next((tuple(cols) for _, kind, _, cols, *_ in constraints if kind == "p"), ())
    uniques = [tuple(cols) for _, kind, _, cols, *_ in constraints if kind == "u"]
    uniques += [tuple(cols) for _, _, plain, cols in indexes if plain]
    foreign = tuple(ForeignKey(tuple(cols), target.removeprefix(prefix), tuple(others))
                    for _, kind, _, cols, target, others, inside in constraints if kind == "f" and inside)
    if not key:
        solid = {c.name for c in made if not c.nullable}
        key = next((u for u in uniques if set(u) <= solid), ())
    surrogate = len(key) == 1 and key[0] in given_out and all(fk.columns != key for fk in foreign)
    ddl = _statements(head, partitions, columns, constraints, sequences)
    return Table(head.name[len(prefix):], made, key, surrogate, tuple(uniques), foreign, ddl,
                 tuple((index, _bare(sql)) for index, sql, _, _ in indexes), "text-sha256",
                 tuple((n, text) for n, kind, text, _, _, _, inside in constraints
                       if kind != "p" and (kind != "f" or inside)))


def _late(kind: str, text: str) -> bool:
    """Whether a constraint is made when the rows are there: it leads elsewhere, or they need not keep to it."""
    return kind == "f" or text.endswith(" NOT VALID")


def _bare(sql: str) -> str:
    """An index's statement without the schema that the table is in, for all partitions of one."""
    return _SCHEMA.sub(" ON ", sql, count=1)


def _statements(head: _Head, partitions: list[tuple[Any, ...]], columns: list[tuple[Any, ...]],
                constraints: list[tuple[Any, ...]], sequences: list[tuple[Any, ...]]) -> str:
    name = quote(head.name)
    identities = {c: (s, options) for c, s, options, kind in sequences if kind == "i"}
    lines = [column_line(c, identities.get(c[0])) for c in columns if c[8] or not head.parents]
    lines += [f"CONSTRAINT {quote(n)} {text}" for n, kind, text, *_ in constraints if not _late(kind, text)]
    parts = [f"CREATE SEQUENCE IF NOT EXISTS {quote(s)} {options}" for s, options in
             sorted({(s, options) for _, s, options, kind in sequences if kind != "i"})]
    parts.append(f"CREATE {'UNLOGGED ' if head.unlogged else ''}TABLE {name} (\n  " + ",\n  ".join(lines) + "\n)"
                 + (f" INHERITS ({', '.join(map(quote, head.parents))})" if head.parents else "")
                 + (f" PARTITION BY {head.partition_key}" if head.partition_key else "")
                 + (f" WITH ({head.options})" if head.options else ""))
    parts += [f"ALTER SEQUENCE {quote(s)} OWNED BY {name}.{quote(c)}" for c, s, _, kind in sequences if kind == "a"]
    if head.parents:  # a column that is inherited may have a default of its own
        parts += [f"ALTER TABLE {name} ALTER COLUMN {quote(c)} SET DEFAULT {default}"
                  for c, _, _, _, default, _, generated, _, schema, *_ in columns
                  if default is not None and not schema and not generated]
    late = []
    for child, above, bound, key, defaults, checks in partitions:
        parts.append(f"CREATE TABLE {quote(child)} PARTITION OF {quote(above)} {bound}"
                     + (f" PARTITION BY {key}" if key else ""))
        parts += defaults
        late += checks
    parts += [sql for sql in late if " FOREIGN KEY " not in sql]
    if head.comment:
        parts.append(f"COMMENT ON TABLE {name} IS {literal(head.comment)}")
    parts += [f"COMMENT ON COLUMN {name}.{quote(c)} IS {literal(statement)}" for c, *_, statement in columns
              if statement]
    parts += [f"ALTER TABLE {name} ADD CONSTRAINT {quote(n)} {text}"
              for n, kind, text, *_ in constraints if _late(kind, text)]
    parts += [sql for sql in late if " FOREIGN KEY " in sql]
    return AND_THEN.join(parts)


def column_line(column: Sequence[Any], sequence: tuple[str, str] | None) -> str:
    """A column, as `COLUMNS` gives it, as a statement that makes its table has it. sequence: an identity's, and its
    options."""
    name, declared, _, nullable, default, identity, generated, collation, *_ = column
    line = f"{quote(name)} {declared}" + (f" COLLATE {collation}" if collation else "")
    if generated:
        stored = "VIRTUAL" if generated == "v" else "STORED"
        return f"{line} GENERATED ALWAYS AS ({default}) {stored}" + ("" if nullable else " NOT NULL")
    if identity:
        line += f" GENERATED {'ALWAYS' if identity == 'a' else 'BY DEFAULT'} AS IDENTITY"
        if sequence is None:
            return line
        called, options = sequence
        return f"{line} (SEQUENCE NAME {quote(called)} {options[options.index('INCREMENT'):]})"
    return line + (f" DEFAULT {default}" if default is not None else "") + ("" if nullable else " NOT NULL")
