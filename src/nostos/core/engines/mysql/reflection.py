"""How MariaDB and MySQL describe tables, and their statements under another prefix."""

from __future__ import annotations

import re
from collections.abc import Mapping
from typing import Any

from nostos.core.database.column_types import empty_value
from nostos.core.database.schema import Column, ForeignKey, Table, Value
from nostos.core.expressions import expression

_INTEGERS = ("tinyint", "smallint", "mediumint", "int", "bigint", "year")
_BINARY = ("binary", "varbinary", "tinyblob", "blob", "mediumblob", "longblob", "bit", "geometry", "point")


_KEY = expression(r"^[ \t]*(?:CONSTRAINT `(?:[^`]|``)*` )?(FOREIGN KEY \(([^)]*)\) .*?),?$", re.MULTILINE)
CONSTRAINTS = expression(r"^[ \t]*CONSTRAINT `((?:[^`]|``)*)` ((?:FOREIGN KEY|CHECK) .*?),?$", re.MULTILINE)
# With the name that a server gives by itself, which has the table's in it, by what it says.
_CHECK = expression(r"^[ \t]*CONSTRAINT `((?:[^`]|``)*?(_chk_\d+)?)` (CHECK \(.*\)),?$", re.MULTILINE)
_SEQUENCE_OF = expression(r"\b((?:nextval|lastval)\()(?:`(?:[^`]|``)*`\.)?`((?:[^`]|``)*)`", re.IGNORECASE)
NEXT = expression(r"^\).*\bAUTO_INCREMENT=(\d+)", re.MULTILINE)  # the number that a table gives out next
_INDEX = expression(r"^[ \t]*((?:UNIQUE |FULLTEXT |SPATIAL )?KEY `((?:[^`]|``)*)` .*?),?$", re.MULTILINE)


def quote(name: str) -> str:
    """An identifier, quoted for SQL; percent signs doubled, for the driver reads them."""
    return in_quotes(name).replace("%", "%%")


def in_quotes(name: str) -> str:
    """An identifier, quoted for a statement that the driver does not read."""
    return "`" + name.replace("`", "``") + "`"


REFLECTION = {
    "table": "SELECT table_name, engine FROM information_schema.tables WHERE table_schema = %s "
             "AND table_type IN ('BASE TABLE', 'SYSTEM VERSIONED')",
    "column": "SELECT table_name, column_name, column_type, is_nullable, column_default, extra, "
              "character_set_name "
              "FROM information_schema.columns WHERE table_schema = %s ORDER BY table_name, ordinal_position",
    "index": "SELECT table_name, index_name, column_name, non_unique, sub_part FROM information_schema.statistics "
             "WHERE table_schema = %s ORDER BY table_name, index_name, seq_in_index",
    "foreign": "SELECT table_name, constraint_name, column_name, referenced_table_name, referenced_column_name "
               "FROM information_schema.key_column_usage WHERE table_schema = %s "
               "AND referenced_table_schema = table_schema ORDER BY table_name, constraint_name, ordinal_position",
}


def kind_of(declared: str) -> str:
    """What a column's type holds, in the words that all engines share: int, float,
    text, binary, other."""
    word = re.split(r"[ (]", declared.lower(), maxsplit=1)[0]
    if word in _INTEGERS:
        return "int"
    if word in _BINARY:
        return "binary"
    if word in ("float", "double", "decimal"):
        return word if word == "float" else "other"
    return "text" if "char" in word or "text" in word or word in ("enum", "set", "json") else "other"


def implied(column: Column) -> Value:
    """What rows that were there get in a new column that may not be empty and has no default."""
    declared = column.declared.lower()
    word = re.split(r"[ (]", declared, maxsplit=1)[0]
    if word in ("date", "datetime", "timestamp"):
        return "0000-00-00" if word == "date" else "0000-00-00 00:00:00"
    if word == "time":
        return "00:00:00"
    if word in ("float", "double", "real"):
        return "0"
    if word == "decimal":
        places = re.search(r",\s*(\d+)", declared)
        return "0" if places is None or places.group(1) == "0" else "0." + "0" * int(places.group(1))
    if word == "enum":
        first = re.search(r"'((?:[^']|'')*)'", column.declared)
        return first.group(1).replace("''", "'") if first else ""
    if word == "bit":
        return bytes(-(-int(re.search(r"\d+", declared + "1").group()) // 8))  # type: ignore[union-attr]
    return empty_value(column)


def _literal(declared: str, default: str | None, extra: str) -> str | None:
    """A column's default as SQL writes it. MySQL, unlike MariaDB, tells text without its quotation marks."""
    if default is None or default == "NULL" or "DEFAULT_GENERATED" in extra.upper() or default[:1] == "'":
        return default
    if kind_of(declared) == "text" or re.match(r"(?i)date|time", declared):
        if re.fullmatch(r"(?i)(current_timestamp|now|uuid)\b.*|[a-z_]+\(.*\)", default):
            return default
        return "'" + default.replace("'", "''") + "'"
    return default


def with_sequences(sql: str, old: str, new: str) -> str:
    """Defaults with the sequences that they name under another prefix, and without their database."""
    return _SEQUENCE_OF.sub(lambda m: f"{m.group(1)}`{new}{m.group(2).removeprefix(old)}`", sql)


def table_of(name: str, prefix: str, ddl: str, rows: Mapping[str, list[tuple[Any, ...]]]) -> Table:
    """A table from what the server says of it. name: without the prefix; ddl: as the server writes it."""
    columns = tuple(
        Column(c, declared, nullable == "YES", None if (literal := _literal(declared, default, extra)) is None else
               with_sequences(literal, prefix, ""),
               generated=re.search(r"\b(?:VIRTUAL|STORED|PERSISTENT) GENERATED|^GENERATED", extra.upper()) is not None,
               charset=charset, kind=kind_of(declared))
        for c, declared, nullable, default, extra, charset in rows.get("column", ()))
    indexes: dict[str, list[tuple[str, bool, Any]]] = {}
    for index, column, not_unique, part in rows.get("index", ()):
        indexes.setdefault(index, []).append((column, str(not_unique) == "0", part))
    key = tuple(c for c, _, _ in indexes.get("PRIMARY", ()))
    solid = {c.name for c in columns if not c.nullable}
    uniques = tuple(tuple(c for c, _, _ in parts) for index, parts in sorted(indexes.items())
                    if index != "PRIMARY" and all(u and p is None for _, u, p in parts))
    if not key:
        key = next((u for u in uniques if set(u) <= solid), ())
    foreign: dict[str, list[tuple[str, str, str]]] = {}
    for constraint, column, target, target_column in rows.get("foreign", ()):
        if target is not None and target.startswith(prefix):
            foreign.setdefault(constraint, []).append((column, target[len(prefix):], target_column))
    keys = tuple(ForeignKey(tuple(p[0] for p in parts), parts[0][1], tuple(p[2] for p in parts))
                 for parts in foreign.values())
    automatic = {c for c, *_, extra, _ in rows.get("column", ()) if "auto_increment" in extra}
    surrogate = len(key) == 1 and key[0] in automatic and all(fk.columns != key for fk in keys)
    lines = {m.group(2).replace("``", "`"): m.group(1) for m in _INDEX.finditer(ddl)}
    plain = tuple((index, lines[index]) for index in sorted(indexes) if index in lines)
    ddl = re.sub(r" AUTO_INCREMENT=\d+", "", renamed(ddl, prefix, "", name))
    return Table(name, columns, key, surrogate, uniques, keys, ddl, plain, "text", tuple(constraints_of(ddl).items()))


def renamed(ddl: str, old: str, new: str, table: str) -> str:
    """A CREATE TABLE statement under another prefix. Names of foreign keys that the server gave are left to it; so are
    defaults' databases: a sequence is the one beside the table."""
    ddl = re.sub(r"^CREATE TABLE `(?:[^`]|``)*`", lambda _: f"CREATE TABLE {in_quotes(new + table)}", ddl)
    ddl = re.sub(r"CONSTRAINT `(?:[^`]|``)*_ibfk_\d+` (?=FOREIGN KEY)", "", ddl)
    ddl = with_sequences(ddl, old, new)
    return re.sub(r"REFERENCES `((?:[^`]|``)*)`",
                  lambda m: f"REFERENCES `{new}{m.group(1).removeprefix(old)}`", ddl)


def constraints_of(ddl: str) -> dict[str, str]:
    """The foreign keys and checks in a CREATE TABLE statement, and what each says. Foreign keys are called by their
    columns, for their names are unique a database, and a copy beside live's tables has others."""
    keys = {m.group(2).replace("`", ""): m.group(1) for m in _KEY.finditer(ddl)}
    checks = {m.group(3) if m.group(2) else m.group(1): m.group(3) for m in _CHECK.finditer(ddl)}
    return {**keys, **checks}


def keys_by_name(ddl: str) -> dict[str, str]:
    """The foreign keys in a CREATE TABLE statement that have names, and what each says."""
    return {name: key_name for name, key_name in CONSTRAINTS.findall(ddl) if key_name.startswith("FOREIGN KEY")}


def column_line(table: Table, column: Column) -> str:
    """A column's definition as the server writes it, name included."""
    name = "`" + column.name.replace("`", "``") + "`"
    match = re.search(rf"^\s*({re.escape(name)} .*?),?$", table.ddl, re.MULTILINE)
    if match:
        return match.group(1).replace("%", "%%")
    rest = "" if column.nullable else " NOT NULL"
    return f"{quote(column.name)} {column.declared}{rest}" + (
        f" DEFAULT {column.default}" if column.default is not None else "")
