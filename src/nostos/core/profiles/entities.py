"""What a system says of its own entities, as parts of a profile: its types, the tables of each, and the fields that it
or an administrator gave them, each in columns or in a table of its own.

An entity is a row of its type's base table, which gives out its number and holds its UUID. Everything else of it (its
values by language, its revisions, its fields) is part of it.
"""

from __future__ import annotations

import re
from collections.abc import Iterator, Mapping, Sequence

from nostos.core.database.schema import Key, Table
from nostos.core.profiles.conditions import Where
from nostos.core.profiles.model import Profile
from nostos.core.profiles.parts import Child, FieldPolicy, Join, Kind, Reference
from nostos.core.profiles.policies import NEWEST, STRUCTURE, TEXT
from nostos.core.records import dataclass

_FIELD_OF = ("bundle", "deleted", "entity_id", "revision_id", "langcode", "delta")  # columns of a field's own table
_LONG = frozenset({"text", "text_long", "text_with_summary", "string_long"})
_SPEAKS = _LONG | {"link", "uri", "path", "string"}  # types whose texts may name an entity by its path
_TIMES = frozenset({"changed", "timestamp"})
INSTALLED = "entity.definitions.installed"
_BEFORE = r"(?:^|(?<=[\"'\s(:/\ufdd1]))"  # a path, wherever it stands in a text
_BY_UUID = r"data-entity-uuid=[\"']([0-9A-Fa-f-]{36})"  # how markup shows an entity
_NUMBER = r"([1-9]\d*)(?![\w.-])"


@dataclass(frozen=True)
class EntityField:
    """A field of a type. columns: by table, those that hold it. to: the type of entity that it points at, if any."""

    name: str
    kind: str
    columns: Mapping[str, tuple[str, ...]]
    to: str = ""


@dataclass(frozen=True)
class EntityType:
    """A type of entities. tables: "base", "data" (by language), "revision", "revision_data", those that it has. keys:
    what columns are called that hold its "id", "revision", "bundle", "label", "langcode", "uuid". path: where one is
    seen, with its number in braces."""

    id: str
    tables: Mapping[str, str]
    keys: Mapping[str, str]
    fields: tuple[EntityField, ...] = ()
    path: str = ""


def parts_of(types: Sequence[EntityType], tables: Mapping[str, Table], said: Profile) -> Profile:
    """The profile of these types, whose tables are there. said: what is known of the system's own kinds already: it is
    not said again."""
    known = [t for t in types if t.tables.get("base") in tables and tables[t.tables["base"]].surrogate]
    work = _Parts({t.id: t for t in known}, tables, said)
    for one in known:
        work.type(one)
    work.pairs()
    work.configured()
    return Profile(name="entities", title="what the system says of its entities", kinds=tuple(work.kinds),
                   children=tuple(work.children), joins=tuple(work.joins),
                   references=tuple(dict.fromkeys(work.references)), policies=tuple(dict.fromkeys(work.policies)))


def field_of(table: str, key: Sequence[object]) -> str:
    """The field, `type.name`, that a row of configuration or of what is kept of fields is of; empty for any other."""
    name = str(key[-1])
    if table == "config":
        match = re.fullmatch(r"field\.(?:storage\.(\w+)|field\.(\w+)\.\w+)\.(\w+)", name)
    else:
        match = re.fullmatch(r"(\w+)()\.field_schema_data\.(\w+)", name) if table == "key_value" else None
    return f"{match[1] or match[2]}.{match[3]}" if match else ""


def field_tables(field: str) -> tuple[str, str]:
    """What the tables of a field are called, `type.name`."""
    of, _, name = field.partition(".")
    return f"{of}__{name}", f"{of}_revision__{name}"


def definitions_of(field: str) -> tuple[tuple[str, Key], ...]:
    """The rows, by table and key, that keep what there is to know of all fields of a field's type."""
    of = field.partition(".")[0]
    return (("key_value", (INSTALLED, f"{of}.field_storage_definitions")),
            ("key_value", ("entity.definitions.bundle_field_map", of)))


class _Parts:
    def __init__(self, types: Mapping[str, EntityType], tables: Mapping[str, Table], said: Profile) -> None:
        self.types, self.tables = types, tables
        self.kinds: list[Kind] = []
        self.children: list[Child] = []
        self.joins: list[Join] = []
        self.references: list[Reference] = []
        self.policies: list[FieldPolicy] = []
        self.named = {k.table for k in said.kinds}
        self.parts = {c.table for c in said.children}

    def type(self, one: EntityType) -> None:
        """Everything of one type."""
        base, key = one.tables["base"], one.keys["id"]
        self._kind(one)
        for role, label in (("data", ("langcode",)), ("revision", ("revision",)),
                            ("revision_data", ("revision", "langcode"))):
            name = one.tables.get(role, "")
            if name in self.tables and name != base:
                columns = tuple(c for c in (one.keys.get(k, k) for k in label) if self._has(name, c))
                self._part(name, key, base, "" if role == "data" else "revision", columns)
        self._of_revisions(one)
        for field in one.fields:
            for name, columns in field.columns.items():
                if name in self.tables:
                    self._field(one, field, name, [c for c in columns if self._has(name, c)])

    def _has(self, table: str, column: str) -> bool:
        return self.tables[table].column(column) is not None

    def _kind(self, one: EntityType) -> None:
        base, key = one.tables["base"], one.keys["id"]
        if base in self.named:
            return
        data, label, uuid = one.tables.get("data", ""), one.keys.get("label", ""), one.keys.get("uuid", "")
        title = label if label and self._has(base, label) else None
        if title is None and label and data in self.tables and self._has(data, label):
            title = f"of_{label}"
            self.joins.append(Join(base, title, data, ((key, key),), label, (
                ("default_langcode", "[1t]*"),) if self._has(data, "default_langcode") else ()))
        bundle = one.keys.get("bundle", "")
        name = f"{{{bundle}}}" if one.id == "node" and bundle else _CALLED.get(one.id, one.id.replace("_", "-"))
        born = uuid if uuid and self._has(base, uuid) else None
        visitors = one.id in _VISITORS
        self.kinds.append(Kind(
            name, base, (), (key,), title, (born,) if born else (), born, visitors=visitors,
            natural=not visitors and one.id not in _EDITORS, group=_EDITORS.get(one.id, ""),
            tied=one.id == "path_alias", bound=one.id in _BOUND,
            address="" if visitors else re.sub(r"\{[^}]*\}", f"{{{key}}}", one.path)))

    def _part(self, table: str, of: str, owner: str, name: str, label: tuple[str, ...]) -> None:
        if table not in self.named and table not in self.parts and self._has(table, of):
            self.parts.add(table)
            own = self.tables[table].surrogate  # two sides' revisions of one number are two
            self.children.append(Child(table, of, owner, name, label, repeats=own))
            self.references.append(Reference(table, of, owner))

    def _of_revisions(self, one: EntityType) -> None:
        """Which revision of an entity is the current one is no change of it: the later one is."""
        revision, goal = one.keys.get("revision", ""), one.tables.get("revision", "")
        if revision and goal in self.tables:
            for name in one.tables.values():
                if name in self.tables and name != goal and self._has(name, revision):
                    self.references.append(Reference(name, revision, goal))
                    if name in (one.tables["base"], one.tables.get("data")):
                        self.policies.append(FieldPolicy(name, revision, NEWEST))

    def _field(self, one: EntityType, field: EntityField, name: str, columns: Sequence[str]) -> None:
        base, key = one.tables["base"], one.keys["id"]
        own = set(_FIELD_OF) <= {*self.tables[name].names}
        revisions = one.tables.get("revision", "")
        if own:
            of_revision = "revision" in name.partition("__")[0].removeprefix(one.id) or name.startswith(
                f"{one.id}_r__")
            label = ("langcode", "delta")
            self._part(name, "entity_id", base, field.name, ("revision_id", *label) if of_revision else label)
            if revisions in self.tables:
                self.references.append(Reference(name, "revision_id", revisions))
                if not of_revision:
                    self.policies.append(FieldPolicy(name, "revision_id", NEWEST))
        goal = self.types.get(field.to)
        for column in columns:
            short = column.removeprefix(field.name).strip("_")
            # Where another column says the type, the number is of that one.
            own_key, varies = (name, column) == (base, key), self._says_type(name, column)
            if goal is not None and short in ("", "target_id") and not own_key and not varies:
                self.references.append(Reference(name, column, goal.tables["base"]))
            elif goal is not None and short == "target_revision_id" and goal.tables.get("revision") in self.tables:
                self.references.append(Reference(name, column, goal.tables["revision"]))
            kind = self.tables[name].column(column)
            if kind is None or column in self.tables[name].key:
                continue
            if field.kind in _TIMES and field.name in ("changed", "revision_timestamp", "access", "login"):
                self.policies.append(FieldPolicy(name, column, NEWEST))
            if kind.kind == "binary" or short == "options":
                self.policies.append(FieldPolicy(name, column, STRUCTURE))
            if field.kind == "layout_section" and "block_content" in self.types:
                self.references.append(Reference(name, column, self.types["block_content"].tables.get(
                    "revision", ""), path=("**", "block_revision_id")))
            if field.kind in _SPEAKS:
                if field.kind in _LONG and short in ("", "value", "summary"):
                    self.policies.append(FieldPolicy(name, column, TEXT))
                    self.references += [Reference(name, column, t.tables["base"], t.keys["uuid"], pattern=_BY_UUID)
                                        for t in self._with_uuid()]
                self.references += self.paths(name, column)

    def paths(self, table: str, column: str) -> Iterator[Reference]:
        """Entities that a text names by where they are seen, or by their type and number."""
        for one in self.types.values():
            base = one.tables["base"]
            heads = [rf"(?:^|[\"'\s:=/])entity:{re.escape(one.id)}/"]
            if one.path.count("{") == 1:
                heads.append(_BEFORE + re.escape(one.path.partition("{")[0].lstrip("/")))
            yield from (Reference(table, column, base, pattern=head + _NUMBER) for head in heads)

    def _says_type(self, table: str, column: str) -> str:
        """The column of a row that says which type of entity a number in another is of; empty where none does."""
        stem = column.removesuffix("_revision_id").removesuffix("_id").removesuffix("__target")
        return next((c for c in (f"{stem}_type", f"{stem}_type_id", f"{stem}__target_type")
                     if c != column and self._has(table, c)), "") if column.endswith("_id") else ""

    def configured(self) -> None:
        """Entities that configuration depends on: it names them by their UUIDs, with their types before these."""
        if "config" in self.tables:
            self.references += [Reference("config", "data", one.tables["base"], one.keys["uuid"], path=(
                "dependencies", *more, "content", "*"), pattern=rf"^{re.escape(one.id)}:[^:]*:(.+)$")
                for one in self._with_uuid() for more in ((), ("enforced",))]

    def _with_uuid(self) -> list[EntityType]:
        return [t for t in self.types.values() if t.keys.get("uuid") and self._has(t.tables["base"], t.keys["uuid"])]

    def pairs(self) -> None:
        """Numbers of whatever type of entity another column says."""
        owned = {f.to for t in self.types.values() for f in t.fields if f.kind == "entity_reference_revisions"}
        kept = {n for t in owned & self.types.keys() for n in self.types[t].tables.values()}
        for name, table in self.tables.items():
            for column in table.names:
                says = self._says_type(name, column)
                for one in self.types.values() if says else ():
                    where: Where = ((says, one.id),)
                    goal = one.tables.get("revision" if column.endswith("_revision_id") else "base", "")
                    if goal in self.tables:
                        # What others own says whose it was: it holds nobody.
                        self.references.append(Reference(name, column, goal, where=where, outlives=name in kept))


# The seventh generation's types, with their tables and keys: it keeps no definitions of them in its database.
_OLDER = {"node": "node", "taxonomy_term": "taxonomy_term_data", "user": "users", "file": "file_managed",
          "comment": "comment", "taxonomy_vocabulary": "taxonomy_vocabulary"}
_SHORT = ("target_id", "tid", "fid", "nid", "uid")  # columns of a field that hold a number of what it points at


def older_parts(fields: Mapping[str, tuple[str, str]], tables: Mapping[str, Table]) -> Profile:
    """The profile of the seventh generation's fields: for all types, each has two tables. fields: by name, what each is
    and what type it points at."""
    children: list[Child] = []
    references: list[Reference] = []
    policies: list[FieldPolicy] = []
    types = {t: n for t, n in _OLDER.items() if n in tables and tables[n].surrogate}
    for field, (kind, to) in fields.items():
        for name, label in ((f"field_data_{field}", ("language", "delta")),
                            (f"field_revision_{field}", ("revision_id", "language", "delta"))):
            if name not in tables:
                continue
            for one, base in types.items():
                where = (("entity_type", one),)
                children.append(Child(name, "entity_id", base, field, label, where))
                references.append(Reference(name, "entity_id", base, where=where))
                if one == "node" and "node_revision" in tables:
                    references.append(Reference(name, "revision_id", "node_revision", where=where))
                elif one != "node":
                    references.append(Reference(name, "revision_id", base, where=where))
            if name.startswith("field_data_"):
                policies.append(FieldPolicy(name, "revision_id", NEWEST))
            for column in tables[name].columns:
                short = column.name.removeprefix(f"{field}_")
                if short == column.name:
                    continue
                if short in _SHORT and to in types:
                    references.append(Reference(name, column.name, types[to]))
                elif kind in _LONG or kind == "text":
                    policies.append(FieldPolicy(name, column.name, TEXT))
                if kind in _SPEAKS or kind.startswith("link"):
                    references += older_paths(name, column.name, types)
    return Profile(name="entities", title="what the system says of its fields", children=tuple(children),
                   references=tuple(references), policies=tuple(policies))


def older_paths(table: str, column: str, types: Mapping[str, str]) -> Iterator[Reference]:
    """Entities that a text names by where they are seen."""
    for one, path in (("node", "node/"), ("taxonomy_term", "taxonomy/term/"), ("user", "user/")):
        if one in types:
            yield Reference(table, column, types[one], pattern=f"{_BEFORE}{path}{_NUMBER}")


_BOUND = frozenset({"content_moderation_state"})
_VISITORS = frozenset({"comment", "contact_message"})
# The system's own types that editors fill, and where people look for each.
_EDITORS = {"node": "content", "taxonomy_term": "content", "media": "files", "block_content": "design",
            "menu_link_content": "menus", "path_alias": "", "file": "files"}
_CALLED = {"file": "upload", "taxonomy_term": "term", "menu_link_content": "menu-link"}  # `file/` is named by a path
