"""The tables of a PostgreSQL schema as its catalogue has them, and the statements that make them."""

from __future__ import annotations

import re
from collections.abc import Sequence
from typing import Any

from nostos.core.database.schema import Column, ForeignKey, Table

AND_THEN = "\n--;\n"  # between the statements that make one table
_SCHEMA = re.compile(r' ON (ONLY )?(?:"(?:[^"]|"")*"|[^".( ]+)\.')
_KINDS = {"int2": "int", "int4": "int", "int8": "int", "bytea": "binary", "float4": "float", "float8": "float"}
INCOMPARABLE = ("json", "xml", "point", "polygon", "box", "path", "line", "lseg", "circle")  # types without equality
_OF = "c.relnamespace = current_schema()::regnamespace"
_BASE = ("CASE WHEN t.typtype = 'd' THEN (SELECT b.typname FROM pg_type b WHERE b.oid = t.typbasetype) "
         "ELSE t.typname END")

TABLES = ("SELECT c.oid::bigint, c.relname, c.relpersistence = 'u', c.relkind = 'p', "
          "CASE WHEN c.relkind = 'p' THEN pg_get_partkeydef(c.oid) END, obj_description(c.oid, 'pg_class') "
          f"FROM pg_class c WHERE {_OF} AND c.relkind IN ('r', 'p') AND NOT c.relispartition ORDER BY c.relname")
PARTITIONS = ("SELECT p.relname, c.relname, pg_get_expr(c.relpartbound, c.oid) FROM pg_class c "
              "JOIN pg_inherits i ON i.inhrelid = c.oid JOIN pg_class p ON p.oid = i.inhparent "
              f"WHERE {_OF} AND c.relispartition ORDER BY c.oid")
COLUMNS = ("SELECT c.relname, a.attname, format_type(a.atttypid, a.atttypmod), "
           f"{_BASE}, NOT a.attnotnull, pg_get_expr(d.adbin, d.adrelid), a.attidentity, a.attgenerated, "
           "CASE WHEN a.attcollation <> t.typcollation THEN quote_ident(n.nspname) || '.' || quote_ident(l.collname) "
           "END, "
           "pg_get_serial_sequence(quote_ident(current_schema()) || '.' || quote_ident(c.relname), a.attname) "
           "FROM pg_class c JOIN pg_attribute a ON a.attrelid = c.oid AND a.attnum > 0 AND NOT a.attisdropped "
           "JOIN pg_type t ON t.oid = a.atttypid LEFT JOIN pg_attrdef d ON d.adrelid = c.oid AND d.adnum = a.attnum "
           "LEFT JOIN pg_collation l ON l.oid = a.attcollation LEFT JOIN pg_namespace n ON n.oid = l.collnamespace "
           f"WHERE {_OF} AND c.relkind IN ('r', 'p') AND NOT c.relispartition ORDER BY c.relname, a.attnum")
CONSTRAINTS = ("SELECT c.relname, k.conname, k.contype, pg_get_constraintdef(k.oid), "
               "ARRAY(SELECT a.attname::text FROM unnest(k.conkey) WITH ORDINALITY u(n, o) JOIN pg_attribute a "
               "ON a.attrelid = k.conrelid AND a.attnum = u.n ORDER BY u.o), f.relname, "
               "ARRAY(SELECT a.attname::text FROM unnest(k.confkey) WITH ORDINALITY u(n, o) JOIN pg_attribute a "
               "ON a.attrelid = k.confrelid AND a.attnum = u.n ORDER BY u.o) "
               "FROM pg_constraint k JOIN pg_class c ON c.oid = k.conrelid LEFT JOIN pg_class f ON f.oid = k.confrelid "
               f"WHERE {_OF} AND NOT c.relispartition AND k.contype IN ('p', 'u', 'c', 'x', 'f') AND k.conislocal "
               "ORDER BY c.relname, k.contype <> 'p', k.conname")
INDEXES = ("SELECT c.relname, i.relname, pg_get_indexdef(i.oid), x.indisunique AND x.indpred IS NULL AND "
           "x.indexprs IS NULL, ARRAY(SELECT a.attname::text FROM unnest(x.indkey) WITH ORDINALITY u(n, o) "
           "JOIN pg_attribute a ON a.attrelid = c.oid AND a.attnum = u.n ORDER BY u.o) FROM pg_index x "
           f"JOIN pg_class c ON c.oid = x.indrelid JOIN pg_class i ON i.oid = x.indexrelid WHERE {_OF} "
           "AND NOT c.relispartition AND NOT EXISTS (SELECT 1 FROM pg_constraint k WHERE k.conindid = i.oid "
           "AND k.contype IN ('p', 'u', 'x')) ORDER BY c.relname, i.relname")
SEQUENCES = ("SELECT sequencename, data_type::text, start_value, increment_by, cycle, last_value "
             "FROM pg_sequences WHERE schemaname = current_schema() ORDER BY sequencename")
STATEMENTS = (TABLES, PARTITIONS, COLUMNS, CONSTRAINTS, INDEXES)


def quote(name: str) -> str:
    """An identifier, quoted for SQL."""
    return '"' + name.replace('"', '""') + '"'


def tables_of(found: Sequence[list[tuple[Any, ...]]], prefix: str, hidden: Sequence[str]) -> dict[str, Table]:
    """Every table by name, without the prefix. found: what `STATEMENTS` give. hidden: names that are no site's."""
    tables, partitions, columns, constraints, indexes = found
    by = [_by(part) for part in (partitions, columns, constraints, indexes)]
    result = {}
    for _, name, unlogged, _, partition_key, comment in tables:
        if name.startswith(prefix) and name not in hidden:
            parts = [group.get(name, []) for group in by]
            result[name[len(prefix):]] = _table(name, prefix, bool(unlogged), partition_key, comment, *parts)
    return result


def _by(rows: Sequence[tuple[Any, ...]]) -> dict[str, list[tuple[Any, ...]]]:
    found: dict[str, list[tuple[Any, ...]]] = {}
    for name, *rest in rows:
        found.setdefault(name, []).append(tuple(rest))
    return found


def kind_of(base: str) -> str:
    """How a type's values travel: all but numbers and bytes as text."""
    return _KINDS.get(base, "text")


def _table(name: str, prefix: str, unlogged: bool, partition_key: str | None, comment: str | None,
           partitions: list[tuple[Any, ...]], columns: list[tuple[Any, ...]], constraints: list[tuple[Any, ...]],
           indexes: list[tuple[Any, ...]]) -> Table:
    made = tuple(Column(c, declared, bool(nullable) and not identity, default, bool(generated), base, kind_of(base))
                 for c, declared, base, nullable, default, identity, generated, _, _ in columns)
    given_out = {c for c, _, base, _, default, identity, _, _, sequence in columns
                 if kind_of(base) == "int" and (identity or (sequence and "nextval(" in (default or "")))}
    key = next((tuple(cols) for _, kind, _, cols, _, _ in constraints if kind == "p"), ())
    uniques = [tuple(cols) for _, kind, _, cols, _, _ in constraints if kind == "u"]
    uniques += [tuple(cols) for _, _, plain, cols in indexes if plain]
    foreign = tuple(ForeignKey(tuple(cols), target.removeprefix(prefix), tuple(others))
                    for _, kind, _, cols, target, others in constraints if kind == "f")
    if not key:
        solid = {c.name for c in made if not c.nullable}
        key = next((u for u in uniques if set(u) <= solid), ())
    surrogate = len(key) == 1 and key[0] in given_out and all(fk.columns != key for fk in foreign)
    ddl = _statements(name, unlogged, partition_key, comment, partitions, columns, constraints)
    return Table(name[len(prefix):], made, key, surrogate, tuple(uniques), foreign, ddl,
                 tuple((index, _bare(sql)) for index, sql, _, _ in indexes), "text-sha256")


def _bare(sql: str) -> str:
    """An index's statement without the schema that the table is in."""
    return _SCHEMA.sub(lambda m: f" ON {m.group(1) or ''}", sql, count=1)


def _statements(name: str, unlogged: bool, partition_key: str | None, comment: str | None,
                partitions: list[tuple[Any, ...]], columns: list[tuple[Any, ...]],
                constraints: list[tuple[Any, ...]]) -> str:
    lines = [column_line(*c) for c in columns]
    lines += [f"CONSTRAINT {quote(n)} {text}" for n, kind, text, *_ in constraints if kind != "f"]
    own = [s for *_, default, identity, _, _, s in columns if s and not identity and "nextval(" in (default or "")]
    parts = [f"CREATE SEQUENCE {quote(bare_name(s))}" for s in own]
    parts.append(f"CREATE {'UNLOGGED ' if unlogged else ''}TABLE {quote(name)} (\n  " + ",\n  ".join(lines) + "\n)"
                 + (f" PARTITION BY {partition_key}" if partition_key else ""))
    parts += [f"ALTER SEQUENCE {quote(bare_name(s))} OWNED BY {quote(name)}.{quote(c)}"
              for c, *_, default, identity, _, _, s in columns if s in own]
    parts += [f"CREATE TABLE {quote(child)} PARTITION OF {quote(name)} {bound}" for child, bound in partitions]
    if comment:
        parts.append(f"COMMENT ON TABLE {quote(name)} IS '" + comment.replace("'", "''") + "'")
    parts += [f"ALTER TABLE {quote(name)} ADD CONSTRAINT {quote(n)} {text}"
              for n, kind, text, *_ in constraints if kind == "f"]
    return AND_THEN.join(parts)


def column_line(name: str, declared: str, base: str, nullable: bool, default: str | None, identity: str,
                generated: str, collation: str | None, sequence: str | None) -> str:
    """A column as a statement that makes its table has it."""
    line = f"{quote(name)} {declared}" + (f" COLLATE {collation}" if collation else "")
    if generated:
        return f"{line} GENERATED ALWAYS AS ({default}) STORED" + ("" if nullable else " NOT NULL")
    if identity:
        line += f" GENERATED {'ALWAYS' if identity == 'a' else 'BY DEFAULT'} AS IDENTITY"
        return line + (f" (SEQUENCE NAME {quote(bare_name(sequence))})" if sequence else "")
    return line + (f" DEFAULT {default}" if default is not None else "") + ("" if nullable else " NOT NULL")


def bare_name(qualified: str) -> str:
    """The last part of a qualified name, without its quotes."""
    found = re.search(r'(?:^|\.)("(?:[^"]|"")*"|[^".]+)$', qualified)
    last = found.group(1) if found else qualified
    return last[1:-1].replace('""', '"') if last.startswith('"') else last
