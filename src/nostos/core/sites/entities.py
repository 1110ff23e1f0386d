"""Reads what a system keeps of its own entity types and fields in its database, as it was installed and updated.

It is PHP-serialised, objects among it: read as data, never instantiated.
"""

from __future__ import annotations

import re
from collections.abc import Iterator, Mapping
from typing import Any

from nostos.core.database.protocol import Database
from nostos.core.database.schema import Table, Value
from nostos.core.profiles.entities import INSTALLED, EntityField, EntityType, older_parts, parts_of
from nostos.core.profiles.loader import extended
from nostos.core.profiles.model import Profile
from nostos.core.values import php
from nostos.core.values.structures import read_serialised, text_in

_SCHEMAS, _STORAGE = "entity.storage_schema.sql", "field.storage."
_IMPLIED = {"file": "file", "image": "file", "taxonomy_term_reference": "taxonomy_term"}  # by what a field is, its goal
_KEYS = ("id", "revision", "bundle", "label", "langcode", "uuid")
_TABLES = {"base": "base_table", "data": "data_table", "revision": "revision_table",
           "revision_data": "revision_data_table"}
_NAME = re.compile(r"[a-z][a-z0-9_]{0,63}")


def with_entities(profile: Profile, database: Database, tables: Mapping[str, Table]) -> Profile:
    """A profile with what this database says of its own types of entities and their fields."""
    if profile.entities == "field_config":
        return extended(profile, older_parts(_older_fields(database, tables), tables))
    return extended(profile, parts_of(entity_types(database, tables), tables, profile))


def _older_fields(database: Database, tables: Mapping[str, Table]) -> dict[str, tuple[str, str]]:
    """By the names of the seventh generation's fields, what each is, and what type of entity it points at."""
    fields = {}
    for name, kind, data in database.scan(tables["field_config"], ("field_name", "type", "data")):
        fields[_word(name)] = str(kind), _said(_read(data))[1] or _IMPLIED.get(str(kind), "")
    return fields


def _said(definition: Any) -> tuple[str, str]:
    """What an administrator's field is, and what type it points at, by its configuration."""
    if not isinstance(definition, dict):
        return "", ""
    settings = definition.get("settings")
    return _word(definition.get("type")), _word(settings.get("target_type")) if isinstance(settings, dict) else ""


def entity_types(database: Database, tables: Mapping[str, Table]) -> tuple[EntityType, ...]:
    """The types of entities whose definitions a database keeps; none where it keeps none."""
    table = tables.get("key_value")
    if table is None or not {"collection", "name", "value"} <= {*table.names}:
        return ()
    kept: dict[tuple[str, str], Any] = {}
    for row in database.find_any(table, "collection", [INSTALLED, _SCHEMAS], {}):
        kept[str(row["collection"]), str(row["name"])] = _read(row["value"])
    targets = _targets(database, tables)
    types = []
    for (collection, name), definition in sorted(kept.items()):
        type_id, _, what = name.partition(".")
        if collection != INSTALLED or what != "entity_type" or not isinstance(definition, dict):
            continue
        said = {role: _word(_property(definition, called)) for role, called in _TABLES.items()}
        keys = _property(definition, "entity_keys")
        names = {k: _word(keys.get(k)) for k in _KEYS} if isinstance(keys, dict) else {}
        if not said["base"] or not names.get("id"):
            continue  # configuration: it has no tables
        fields = kept.get((INSTALLED, f"{type_id}.field_storage_definitions"))
        links = _property(definition, "links")
        path = links.get("canonical") if isinstance(links, dict) else None
        types.append(EntityType(
            type_id, {r: t for r, t in said.items() if t}, {k: c for k, c in names.items() if c},
            tuple(_fields(type_id, fields if isinstance(fields, dict) else {}, kept, targets, tables)),
            path if isinstance(path, str) and re.fullmatch(r"[\w/{}-]{1,200}", path) else ""))
    return tuple(types)


def _fields(type_id: str, definitions: Mapping[Any, Any], kept: Mapping[tuple[str, str], Any],
            targets: Mapping[str, tuple[str, str]], tables: Mapping[str, Table]) -> Iterator[EntityField]:
    for name, definition in definitions.items():
        if not isinstance(name, str):
            continue
        schema = kept.get((_SCHEMAS, f"{type_id}.field_schema_data.{name}"))
        columns = {_word(t): tuple(map(str, part["fields"])) for t, part in schema.items() if isinstance(
            part, dict) and isinstance(part.get("fields"), dict)} if isinstance(schema, dict) else {}
        if not columns:  # as such tables are called where nothing says it
            columns = {t: tuple(c for c in tables[t].names if c.startswith(f"{name}_"))
                       for t in (f"{type_id}__{name}", f"{type_id}_revision__{name}") if t in tables}
        kind, to = targets.get(f"{type_id}.{name}", ("", ""))
        kind = kind or _word(_property(definition, "type"))
        yield EntityField(name, kind, columns, to or _target(definition) or _IMPLIED.get(kind, ""))


def _targets(database: Database, tables: Mapping[str, Table]) -> dict[str, tuple[str, str]]:
    """By type and name, what an administrator's fields are, and what they point at: as their configuration says."""
    config = tables.get("config")
    if config is None or not {"name", "data"} <= {*config.names}:
        return {}
    return {str(row["name"]).removeprefix(_STORAGE): _said(_read(row["data"]))
            for row in database.beginning(config, "name", _STORAGE)}


def _read(value: Value) -> Any:
    text = text_in(value) if isinstance(value, bytes) else value
    tree = read_serialised(text) if isinstance(text, str) else None
    return None if tree is None else tree.data


def _property(of: Any, name: str) -> Any:
    """A property of an object, whoever may see it there."""
    if not isinstance(of, dict):
        return None
    return next((of[k] for k in (f"\0*\0{name}", name, f"\0{of.get(php.CLASS)}\0{name}") if k in of), None)


def _target(definition: Any, deep: int = 6) -> str:
    """The type of entity that a field's settings name, wherever in its definition they are."""
    if not isinstance(definition, dict) or not deep:
        return ""
    settings = _property(definition, "settings")
    if isinstance(settings, dict) and settings.get("target_type"):
        return _word(settings["target_type"])
    return next((found for part in definition.values() if (found := _target(part, deep - 1))), "")


def _word(value: Any) -> str:
    return value if isinstance(value, str) and _NAME.fullmatch(value) else ""
