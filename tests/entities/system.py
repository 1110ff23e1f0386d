"""A stand-in for the PHP system whose content is entities: its documented tables, and what it writes in them.

Types of entities are specified once, as its own definitions are; its tables, the definitions that it keeps in its
database, and all that it does when something is saved follow from that. It is nobody's code but ours: the real system
was never at hand.
"""

from __future__ import annotations

import shutil
import uuid
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

import psycopg
import pymysql

from nostos.core.sites.recognise import recognise
from nostos.core.values import php
from tests.small import BYTES, Small, literal

OWN = "bundle VARCHAR(64), deleted INT, entity_id INT, revision_id INT, langcode VARCHAR(12), delta INT"
NOW = 1_790_000_000


@dataclass(frozen=True)
class Fields:
    """A field: its type, its columns with their SQL types, and the type of entity that it points at."""

    kind: str
    columns: Mapping[str, str]
    to: str = ""


def text(kind: str = "string", sql: str = "VARCHAR(190)") -> Fields:
    return Fields(kind, {"value": sql})


def pointing(to: str, *more: str, kind: str = "entity_reference") -> Fields:
    return Fields(kind, {"target_id": "INT", **dict.fromkeys(more, "INT")}, to)


@dataclass(frozen=True)
class Type:
    """A type of entities. shared: its fields that every entity of it has once, in columns; own: those with tables."""

    id: str
    base: str
    keys: Mapping[str, str]
    shared: Mapping[str, Fields]
    own: Mapping[str, Fields] = field(default_factory=dict)
    data: str = ""
    revision: str = ""
    revision_data: str = ""
    path: str = ""

    def columns(self, name: str) -> dict[str, str]:
        """The columns of a shared field: called as it is where it has one, else with what each is."""
        many = len(self.shared[name].columns) > 1
        return {f"{name}__{c}" if many else name: sql for c, sql in self.shared[name].columns.items()}


LONG = Fields("text_with_summary", {"value": "TEXT", "summary": "TEXT", "format": "VARCHAR(64)"})
LINK = Fields("link", {"uri": "VARCHAR(190)", "title": "VARCHAR(190)", "options": "{bytes}"})
NUMBER, TIME = Fields("integer", {"value": "INT"}), Fields("created", {"value": "INT"})
CHANGED = Fields("changed", {"value": "INT"})
PRICE = Fields("price", {"number": "VARCHAR(20)", "currency_code": "VARCHAR(3)"})


def keys(id_: str, revision: str = "", bundle: str = "", label: str = "", langcode: str = "langcode") -> dict[str, str]:
    return {"id": id_, "revision": revision, "bundle": bundle, "label": label, "langcode": langcode, "uuid": "uuid"}


TYPES = {t.id: t for t in (
    Type("user", "users", keys("uid"), {
        "name": text(), "pass": text(), "mail": text(), "status": NUMBER, "created": TIME, "changed": CHANGED,
        "access": Fields("timestamp", {"value": "INT"})}, {"roles": Fields(
            "entity_reference", {"target_id": "VARCHAR(64)"}, "user_role")}, "users_field_data", path="/user/{user}"),
    Type("node", "node", keys("nid", "vid", "type", "title"), {
        "status": NUMBER, "uid": pointing("user"), "title": text(), "created": TIME, "changed": CHANGED}, {
            "body": LONG, "field_tags": pointing("taxonomy_term"), "field_image": pointing("file", kind="image"),
            "field_slabs": pointing("slab", "target_revision_id", kind="entity_reference_revisions"),
            "field_more": LINK},
         "node_field_data", "node_revision", "node_field_revision", "/node/{node}"),
    Type("slab", "slab_item", keys("id", "revision_id", "type"), {
        "status": NUMBER, "parent_id": text(), "parent_type": text(), "parent_field_name": text()}, {
            "field_words": Fields("text_long", {"value": "TEXT", "format": "VARCHAR(64)"})},
         "slab_item_field_data", "slab_item_revision", "slab_item_revision_field_data"),
    Type("taxonomy_term", "taxonomy_term_data", keys("tid", "revision_id", "vid", "name"), {
        "status": NUMBER, "name": text(), "weight": NUMBER, "changed": CHANGED}, {"parent": pointing("taxonomy_term")},
         "taxonomy_term_field_data", "taxonomy_term_revision", "taxonomy_term_field_revision",
         "/taxonomy/term/{taxonomy_term}"),
    Type("file", "file_managed", keys("fid", label="filename"), {
        "uid": pointing("user"), "filename": text(), "uri": text("file_uri"), "filemime": text("string"),
        "filesize": NUMBER, "status": NUMBER, "created": TIME, "changed": CHANGED}),
    Type("path_alias", "path_alias", keys("id", "revision_id"), {
        "path": text(), "alias": text(), "status": NUMBER}, revision="path_alias_revision"),
    Type("menu_link_content", "menu_link_content", keys("id", "revision_id", "bundle", "title"), {
        "title": text(), "menu_name": text(), "link": LINK, "parent": text(), "weight": NUMBER, "changed": CHANGED},
         {}, "menu_link_content_data", "menu_link_content_revision", "menu_link_content_field_revision"),
    Type("content_moderation_state", "content_moderation_state", keys("id", "revision_id"), {
        "workflow": text(), "moderation_state": text(), "content_entity_type_id": text(), "content_entity_id": NUMBER,
        "content_entity_revision_id": NUMBER}, {}, "content_moderation_state_field_data",
         "content_moderation_state_revision", "content_moderation_state_field_revision"),
    Type("comment", "comment", keys("cid", "", "comment_type", "subject"), {
        "status": NUMBER, "uid": pointing("user"), "pid": pointing("comment"), "entity_id": pointing("node"),
        "entity_type": text(), "field_name": text(), "subject": text(), "name": text(), "mail": text(),
        "hostname": text(), "thread": text(), "created": TIME, "changed": CHANGED}, {
            "comment_body": Fields("text_long", {"value": "TEXT", "format": "VARCHAR(64)"})},
         "comment_field_data", path="/comment/{comment}"),
    Type("till_order", "till_order", keys("order_id", "", "type"), {
        "order_number": text(), "uid": pointing("user"), "mail": text("email"), "ip_address": text(), "state": text(),
        "total_price": PRICE, "created": TIME, "changed": CHANGED}, {"order_items": pointing("till_line")}),
    Type("till_line", "till_line", keys("line_id", "", "type"), {
        "order_id": pointing("till_order"), "purchased_entity": pointing("node"), "title": text(), "quantity": NUMBER,
        "unit_price": PRICE}),
)}
PLAIN = (
    "CREATE TABLE config (collection VARCHAR(100), name VARCHAR(150), data {bytes}, PRIMARY KEY (collection, name))",
    "CREATE TABLE key_value (collection VARCHAR(100), name VARCHAR(128), value {bytes}, "
    "PRIMARY KEY (collection, name))",
    "CREATE TABLE key_value_expire (collection VARCHAR(100), name VARCHAR(128), value {bytes}, expire INT, "
    "PRIMARY KEY (collection, name))",
    "CREATE TABLE cache_default (cid VARCHAR(150) PRIMARY KEY, data {bytes}, expire INT)",
    "CREATE TABLE users_data (uid INT, module VARCHAR(50), name VARCHAR(128), value {bytes}, serialized INT, "
    "PRIMARY KEY (uid, module, name))",
    "CREATE TABLE node_access (nid INT, langcode VARCHAR(12), fallback INT, gid INT, realm VARCHAR(120), "
    "grant_view INT, grant_update INT, grant_delete INT, PRIMARY KEY (nid, gid, realm, langcode))",
    "CREATE TABLE taxonomy_index (nid INT, tid INT, status INT, sticky INT, created INT, PRIMARY KEY (nid, tid))",
    "CREATE TABLE file_usage (fid INT, module VARCHAR(50), type VARCHAR(64), id VARCHAR(64), count INT, "
    "PRIMARY KEY (fid, type, id, module))",
    "CREATE TABLE comment_entity_statistics (entity_id INT, entity_type VARCHAR(32), field_name VARCHAR(32), cid INT, "
    "last_comment_timestamp INT, last_comment_name VARCHAR(60), last_comment_uid INT, comment_count INT, "
    "PRIMARY KEY (entity_id, entity_type, field_name))",
    "CREATE TABLE menu_tree (menu_name VARCHAR(32), mlid {key}, id VARCHAR(190) UNIQUE, parent VARCHAR(190), "
    "route_name VARCHAR(190), route_param_key VARCHAR(190), route_parameters {bytes}, title {bytes}, options {bytes}, "
    "provider VARCHAR(50), metadata {bytes}, depth INT, weight INT, p1 INT, p2 INT)",
    "CREATE TABLE history (uid INT, nid INT, timestamp INT, PRIMARY KEY (uid, nid))",
    "CREATE TABLE watchdog (wid {key}, type VARCHAR(64), message TEXT, timestamp INT)",
)


def tables() -> list[str]:
    """The statements that make all of its tables."""
    made = list(PLAIN)
    for t in TYPES.values():
        head = "langcode VARCHAR(12)"
        shared = "".join(f", {c} {sql}" for name in t.shared for c, sql in t.columns(name).items())
        id_, revision, bundle = t.keys["id"], t.keys["revision"], t.keys["bundle"]
        of = (f", {revision} INT" if revision else "") + (f", {bundle} VARCHAR(32)" if bundle else "")
        key = "INTEGER PRIMARY KEY" if t.id == "user" else "{key}"  # the system itself gives these numbers out
        made.append(f"CREATE TABLE {t.base} ({id_} {key}{of}, uuid VARCHAR(128) UNIQUE, {head}"
                    f"{'' if t.data else shared})")
        if t.data:
            made.append(f"CREATE TABLE {t.data} ({id_} INT{of}, {head}{shared}, default_langcode INT, "
                        f"PRIMARY KEY ({id_}, langcode))")
        if t.revision:
            made.append(f"CREATE TABLE {t.revision} ({id_} INT, {revision} {{key}}, {head}"
                        f"{'' if t.data else shared}, revision_default INT)")
        if t.revision_data:
            made.append(f"CREATE TABLE {t.revision_data} ({id_} INT, {revision} INT, {head}{shared}, default_langcode "
                        f"INT, PRIMARY KEY ({revision}, langcode))")
        for name, f in t.own.items():
            columns = ", ".join(f"{name}_{c} {sql}" for c, sql in f.columns.items())
            made.append(f"CREATE TABLE {t.id}__{name} ({OWN}, {columns}, PRIMARY KEY (entity_id, deleted, delta, "
                        "langcode))")
            if t.revision:
                made.append(f"CREATE TABLE {t.id}_revision__{name} ({OWN}, {columns}, PRIMARY KEY (entity_id, "
                            "revision_id, deleted, delta, langcode))")
    return made


def definitions() -> dict[tuple[str, str], Any]:
    """What it keeps of its types in its database, by collection and name."""
    kept: dict[tuple[str, str], Any] = {}
    for t in TYPES.values():
        kept["entity.definitions.installed", f"{t.id}.entity_type"] = {
            php.CLASS: "Core\\ContentEntityType", "\0*\0id": t.id, "\0*\0entity_keys": dict(t.keys),
            "\0*\0base_table": t.base, "\0*\0data_table": t.data or None, "\0*\0revision_table": t.revision or None,
            "\0*\0revision_data_table": t.revision_data or None,
            "\0*\0links": {"canonical": t.path} if t.path else []}
        fields = {}
        for name, f in {**t.shared, **t.own}.items():
            fields[name] = {php.CLASS: "Core\\BaseFieldDefinition", "\0*\0type": f.kind, "\0*\0itemDefinition": {
                php.CLASS: "Core\\FieldItemDataDefinition", "\0*\0definition": {
                    "type": f"field_item:{f.kind}", "settings": {"target_type": f.to} if f.to else []}}}
            where = [t.data or t.base, t.revision_data or t.revision] if name in t.shared else [
                f"{t.id}__{name}", *([f"{t.id}_revision__{name}"] if t.revision else [])]
            columns = t.columns(name) if name in t.shared else {f"{name}_{c}": "" for c in f.columns}
            kept["entity.storage_schema.sql", f"{t.id}.field_schema_data.{name}"] = {
                table: {"fields": {c: {"type": "int"} for c in columns}} for table in where if table}
        kept["entity.definitions.installed", f"{t.id}.field_storage_definitions"] = fields
    return kept


class EntitySite(Small):
    """Two sites of it with a voyage, as `Small` is. address: live's. router: the program that gives its pages. seed:
    what live has at the clone, made by the site's own doing."""

    def __init__(self, folder: Path, engine: str, address: str = "http://127.0.0.1:8431",
                 router: Path | None = None) -> None:
        self.engine, self.address, self.router = engine, address, router
        self.connections: dict[str, Any] = {}
        statements = [s.replace("{bytes}", BYTES[engine]) for s in tables()]
        statements += [f"INSERT INTO key_value VALUES ('{c}', '{n}', {self.bytes(v)})"
                       for (c, n), v in definitions().items()]
        self.waiting: list[str] | None = []
        self.seed()
        statements += self.waiting
        self.waiting = None
        super().__init__(folder, engine, tuple(statements))

    def configured(self, url: str) -> None:
        """Its own configuration says where its database is: nothing else does."""
        location = recognise(str(self.live_folder)).database
        words = {"driver": "sqlite", "database": "site.db"} if self.engine == "sqlite" else {
            "driver": {"mariadb": "mysql"}.get(self.engine, "pgsql"), "database": location.url.database,
            "username": location.url.username, "password": location.url.password or "", "host": location.url.host or "",
            "port": str(location.url.port or ""), "unix_socket": location.url.query.get("unix_socket", "")}
        said = ", ".join(f"{k!r} => {v!r}" for k, v in words.items() if v)
        place = self.live_folder / "sites/default/settings.php"
        place.parent.mkdir(parents=True)
        place.write_text(f"<?php\n$databases['default']['default'] = array({said});\n"
                         f"$base_url = '{self.address}';\n"
                         "$settings['config_sync_directory'] = 'sites/default/files/sync';\n")
        (self.live_folder / "nostos.toml").unlink()
        if self.router is not None:
            shutil.copy(self.router, self.live_folder / ".ht.router.php")

    def sql(self, side: str, statement: str) -> list[tuple[Any, ...]]:
        if self.engine == "sqlite":
            return super().sql(side, statement)
        if side not in self.connections:  # one for all: there are hundreds of statements
            url = recognise(str(self.live_folder if side == "live" else self.staging_folder)).database.url
            self.connections[side] = pymysql.connect(
                unix_socket=url.query["unix_socket"], user=url.username, password=url.password or "",
                database=str(url.database), autocommit=True) if self.engine == "mariadb" else psycopg.connect(
                    url.set(drivername="postgresql").render_as_string(hide_password=False), autocommit=True)
        with self.connections[side].cursor() as cursor:
            cursor.execute(statement)
            return [tuple(row) for row in cursor.fetchall()] if cursor.description else []

    def bytes(self, data: Any) -> str:
        """Data as it is kept, as a literal."""
        return literal(self.engine, php.write(data).encode())

    def literal(self, value: Any) -> str:
        if value is None:
            return "NULL"
        if isinstance(value, dict | list):
            return self.bytes(value)
        return str(value) if isinstance(value, int) else "'" + str(value).replace("'", "''") + "'"

    def insert(self, side: str, table: str, row: Mapping[str, Any]) -> None:
        self.run(side, f"INSERT INTO {table} ({', '.join(row)}) VALUES ({', '.join(map(self.literal, row.values()))})")

    def run(self, side: str, statement: str) -> None:
        if self.waiting is not None:
            self.waiting.append(statement)
        else:
            self.sql(side, statement)

    def seed(self) -> None:
        """Live as it is at the clone: made before there is a voyage, with numbers that are known."""
        self.next: dict[tuple[str, str], int] = {}
        for name, role in (("", ""), ("admin", "administrator"), ("editor", "editor"), ("visitor", "")):
            self.save("live", "user", {"name": name, "mail": f"{name}@kestrel.example", "status": 1, "created": NOW},
                      {"roles": [{"target_id": role}]} if role else {})
        for weight, name in enumerate(("Birds", "Stars", "Weather", "Hills", "Paths")):
            self.save("live", "taxonomy_term", {"name": name, "weight": weight, "status": 1},
                      {"parent": [{"target_id": 0}]}, bundle="topics")
        for n in range(1, 13):
            self.article("live", f"Story {n}", tags=[1 + n % 5], image=f"story-{n}.jpg", slabs=[f"Slab of {n}"])
        for n in (1, 2):
            self.moderate("live", n, n, "published")
        for n in range(1, 9):
            self.comment("live", 1 + n, f"Said {n}")
            self.order("live", 1 + n, f"{1000 + n}")
        self.insert("live", "config", {"collection": "", "name": "system.site", "data": {
            "name": "Kestrel Ridge", "page": {"front": "/node/1"}, "slogan": "Look up"}})
        self.insert("live", "config", {"collection": "", "name": "user.role.editor", "data": {
            "id": "editor", "dependencies": {"config": ["node.type.article"]},
            "permissions": ["access content", "create article content"]}})
        self.insert("live", "config", {"collection": "", "name": "core.extension", "data": {
            "module": {"node": 0, "system": 0}, "theme": {"dusk": 0}, "profile": "standard"}})
        self.insert("live", "config", {"collection": "", "name": "node.type.article", "data": {"type": "article"}})
        self.insert("live", "key_value", {"collection": "system.schema", "name": "node", "value": [10000]})
        self.insert("live", "key_value", {"collection": "state", "name": "system.cron_last", "value": [NOW]})

    def number(self, side: str, table: str, key: str) -> int:
        """The number that a table gives out next."""
        if self.waiting is not None:
            self.next[table, key] = self.next.get((table, key), 0) + 1
            return self.next[table, key]
        (top,), = self.sql(side, f"SELECT MAX({key}) FROM {table}")
        return int(top or 0) + 1

    def save(self, side: str, type_id: str, values: Mapping[str, Any], own: Mapping[str, Sequence[Mapping[str, Any]]],
             bundle: str = "", number: int = 0) -> int:
        """Save an entity as the system does: a new one, or a new revision of one that there is. Returns its number."""
        t = TYPES[type_id]
        id_, of_revision, of_bundle = t.keys["id"], t.keys["revision"], t.keys["bundle"]
        new = not number
        number = number or self._given(side, t.base, id_, {
            **({of_bundle: bundle or type_id} if of_bundle else {}), "uuid": str(uuid.uuid4()), "langcode": "en",
            **({} if t.data else values)})
        if not new and not t.data:
            self.change(side, t.base, id_, number, values)
        vid = {}
        if t.revision:
            vid = {of_revision: self._given(side, t.revision, of_revision, {
                id_: number, "langcode": "en", **({} if t.data else values), "revision_default": 1})}
            self.change(side, t.base, id_, number, vid)
        if t.data:
            row = {id_: number, **vid, **({of_bundle: bundle or type_id} if of_bundle else {}), "langcode": "en",
                   **values, "default_langcode": 1}
            if new:
                self.insert(side, t.data, row)
            else:
                self.change(side, t.data, id_, number, {**vid, **values})
            if t.revision_data:
                now = row if new else self.read(side, t.data, id_, number)
                self.insert(side, t.revision_data, {c: v for c, v in now.items() if c != of_bundle})
        for name, entries in own.items():
            self.run(side, f"DELETE FROM {type_id}__{name} WHERE entity_id = {number}")
            for delta, entry in enumerate(entries):
                row = {"bundle": bundle or type_id, "deleted": 0, "entity_id": number,
                       "revision_id": vid.get(of_revision, number), "langcode": "en", "delta": delta,
                       **{f"{name}_{c}": v for c, v in entry.items()}}
                self.insert(side, f"{type_id}__{name}", row)
                if t.revision:
                    self.insert(side, f"{type_id}_revision__{name}", row)
        # What did not change is of the new revision, too.
        for name in sorted(t.own.keys() - own.keys()) if not new and t.revision else ():
            columns = ", ".join(f"{name}_{c}" for c in t.own[name].columns)
            at = f"entity_id = {number}"
            self.run(side, f"UPDATE {type_id}__{name} SET revision_id = {vid[of_revision]} WHERE {at}")
            every = f"bundle, deleted, entity_id, revision_id, langcode, delta, {columns}"
            self.run(side, f"INSERT INTO {type_id}_revision__{name} ({every}) SELECT {every} FROM {type_id}__{name} "
                           f"WHERE {at}")
        return number

    def _given(self, side: str, table: str, key: str, row: Mapping[str, Any]) -> int:
        number = self.number(side, table, key)
        if self.waiting is not None and self.engine == "postgresql" and table != "users":
            self.insert(side, table, row)  # the sequence gives it
        elif self.engine == "postgresql" and table != "users":
            (number,), = self.sql(side, f"INSERT INTO {table} ({', '.join(row)}) VALUES ("
                                        f"{', '.join(map(self.literal, row.values()))}) RETURNING {key}")
        else:
            self.insert(side, table, {key: number, **row})
        return int(number)

    def change(self, side: str, table: str, key: str, number: int, values: Mapping[str, Any]) -> None:
        sets = ", ".join(f"{c} = {self.literal(v)}" for c, v in values.items())
        self.run(side, f"UPDATE {table} SET {sets} WHERE {key} = {number}")

    def read(self, side: str, table: str, key: str, number: int) -> dict[str, Any]:
        """A row of two columns or more, by its number."""
        t = next(t for t in TYPES.values() if t.data == table)
        columns = [key, *([t.keys["revision"]] if t.revision else []), "langcode",
                   *(c for name in t.shared for c in t.columns(name)), "default_langcode"]
        (row,) = self.sql(side, f"SELECT {', '.join(columns)} FROM {table} WHERE {key} = {number}")
        return dict(zip(columns, row, strict=True))

    # --- what people do

    def article(self, side: str, title: str, tags: Sequence[int] = (), image: str = "", slabs: Sequence[str] = (),
                body: str = "", uid: int = 3, more: str = "") -> int:
        """An article with all that the system writes of it. Returns its number."""
        own: dict[str, list[dict[str, Any]]] = {
            "body": [{"value": body or f"<p>Words of {title}.</p>", "summary": "", "format": "basic_html"}],
            "field_tags": [{"target_id": t} for t in tags], "field_image": [], "field_slabs": [],
            "field_more": [{"uri": more, "title": "More", "options": []}] if more else []}
        fid = self.file("live" if self.waiting is not None else side, image, uid) if image else 0
        if fid:
            own["field_image"] = [{"target_id": fid}]
        made = [self.slab(side, words) for words in slabs]
        own["field_slabs"] = [{"target_id": s, "target_revision_id": r} for s, r in made]
        nid = self.save(side, "node", {"status": 1, "uid": uid, "title": title, "created": NOW, "changed": NOW}, own,
                        "article")
        for slab, _ in made:
            self.change(side, "slab_item_field_data", "id", slab, {"parent_id": str(nid), "parent_type": "node",
                                                                 "parent_field_name": "field_slabs"})
        for tag in tags:
            self.insert(side, "taxonomy_index", {"nid": nid, "tid": tag, "status": 1, "sticky": 0, "created": NOW})
        if fid:
            self.insert(side, "file_usage", {"fid": fid, "module": "file", "type": "node", "id": str(nid), "count": 1})
        self.insert(side, "comment_entity_statistics", {
            "entity_id": nid, "entity_type": "node", "field_name": "comment", "cid": 0,
            "last_comment_timestamp": NOW, "last_comment_name": None, "last_comment_uid": uid, "comment_count": 0})
        self.save(side, "path_alias", {"path": f"/node/{nid}", "alias": f"/{title.lower().replace(' ', '-')}",
                                       "status": 1}, {})
        return nid

    def moderate(self, side: str, nid: int, vid: int, state: str, number: int = 0) -> int:
        """Where an article, in one of its revisions, stands on its way to being published."""
        return self.save(side, "content_moderation_state", {
            "workflow": "editorial", "moderation_state": state, "content_entity_type_id": "node",
            "content_entity_id": nid, "content_entity_revision_id": vid}, {}, number=number)

    def draft(self, side: str, nid: int, title: str) -> int:
        """A later revision of an article that is not shown yet. Returns its number."""
        (now,) = self.sql(side, f"SELECT vid FROM node WHERE nid = {nid}")
        vid = self._given(side, "node_revision", "vid", {"nid": nid, "langcode": "en", "revision_default": 0})
        row = {**self.read(side, "node_field_data", "nid", nid), "vid": vid, "title": title}
        self.insert(side, "node_field_revision", row)
        for name, f in TYPES["node"].own.items():
            columns = ", ".join(f"{name}_{c}" for c in f.columns)
            self.run(side, f"INSERT INTO node_revision__{name} (bundle, deleted, entity_id, revision_id, langcode, "
                           f"delta, {columns}) SELECT bundle, deleted, entity_id, {vid}, langcode, delta, {columns} "
                           f"FROM node_revision__{name} WHERE entity_id = {nid} AND revision_id = {now[0]}")
        return vid

    def file(self, side: str, name: str, uid: int = 3) -> int:
        fid = self.save(side, "file", {"uid": uid, "filename": name, "uri": f"public://{name}", "filesize": 10,
                                       "filemime": "image/jpeg", "status": 1, "created": NOW, "changed": NOW}, {})
        if self.waiting is None:
            super().file(side, f"sites/default/files/{name}")
        return fid

    def slab(self, side: str, words: str) -> tuple[int, int]:
        number = self.save(side, "slab", {"status": 1, "parent_id": None, "parent_type": None,
                                          "parent_field_name": None},
                           {"field_words": [{"value": words, "format": "basic_html"}]}, "quote")
        return number, self.number(side, "slab_item_revision", "revision_id") - 1 if self.waiting is None else (
            self.next["slab_item_revision", "revision_id"])

    def comment(self, side: str, nid: int, words: str) -> int:
        cid = self.save(side, "comment", {
            "status": 1, "uid": 4, "pid": None, "entity_id": nid, "entity_type": "node", "field_name": "comment",
            "subject": words, "name": "Vera", "mail": "vera@visitor.example", "hostname": "192.0.2.7",
            "thread": "01/", "created": NOW, "changed": NOW}, {
                "comment_body": [{"value": words, "format": "plain_text"}]})
        self.run(side, f"UPDATE comment_entity_statistics SET comment_count = comment_count + 1, cid = {cid} "
                       f"WHERE entity_id = {nid}")
        return cid

    def order(self, side: str, nid: int, called: str) -> int:
        price = {"number": "19.90", "currency_code": "EUR"}
        order = self.save(side, "till_order", {
            "order_number": called, "uid": 4, "mail": f"buyer{called}@visitor.example", "ip_address": "192.0.2.9",
            "state": "completed", **{f"total_price__{c}": v for c, v in price.items()}, "created": NOW,
            "changed": NOW}, {"order_items": []})
        line = self.save(side, "till_line", {
            "order_id": order, "purchased_entity": nid, "title": "A ticket", "quantity": 1,
            **{f"unit_price__{c}": v for c, v in price.items()}}, {})
        self.insert(side, "till_order__order_items", {
            "bundle": "till_order", "deleted": 0, "entity_id": order, "revision_id": order, "langcode": "en",
            "delta": 0, "order_items_target_id": line})
        return order

    def remove(self, side: str, nid: int) -> None:
        """An article goes, with all that is of it; the parts that it owned are left to a job that has not run."""
        for table, of in (("node", "nid"), ("node_field_data", "nid"), ("node_revision", "nid"),
                          ("node_field_revision", "nid"), ("taxonomy_index", "nid"), ("node_access", "nid"),
                          ("comment_entity_statistics", "entity_id"),
                          *((f"node{middle}__{name}", "entity_id") for name in TYPES["node"].own
                            for middle in ("", "_revision"))):
            self.run(side, f"DELETE FROM {table} WHERE {of} = {nid}")
        self.run(side, f"DELETE FROM file_usage WHERE id = '{nid}' AND type = 'node'")
        for table in ("path_alias_revision", "path_alias"):
            self.run(side, f"DELETE FROM {table} WHERE path = '/node/{nid}'")

    def field(self, side: str, name: str, to: str) -> None:
        """An administrator gives articles a field: configuration, tables, and what is kept of them, all at once."""
        f = pointing(to)
        for table in (f"node__{name}", f"node_revision__{name}"):
            key = "entity_id, deleted, delta, langcode" if "revision" not in table else (
                "entity_id, revision_id, deleted, delta, langcode")
            self.run(side, f"CREATE TABLE {table} ({OWN}, {name}_target_id INT, PRIMARY KEY ({key}))")
        said = {t: {"fields": {f"{name}_target_id": {"type": "int"}}} for t in (
            f"node__{name}", f"node_revision__{name}")}
        for kept, value in ((f"field.storage.node.{name}", {
                "uuid": str(uuid.uuid4()), "type": f.kind, "entity_type": "node", "field_name": name,
                "settings": {"target_type": to}}), (f"field.field.node.article.{name}", {
                    "uuid": str(uuid.uuid4()), "dependencies": {"config": [f"field.storage.node.{name}",
                                                                           "node.type.article"]}})):
            self.insert(side, "config", {"collection": "", "name": kept, "data": value})
        self.insert(side, "key_value", {"collection": "entity.storage_schema.sql",
                                        "name": f"node.field_schema_data.{name}", "value": said})
        (old,), = self.sql(side, "SELECT value FROM key_value WHERE name = 'node.field_storage_definitions'")
        fields = php.read(bytes(old).decode())
        fields[name] = {php.CLASS: "Core\\FieldStorageConfig", "\0*\0type": f.kind, "\0*\0settings": {
            "target_type": to}}
        self.run(side, f"UPDATE key_value SET value = {self.bytes(fields)} WHERE name = "
                       "'node.field_storage_definitions'")

    def module(self, side: str, name: str) -> None:
        """An extension is brought and switched on."""
        Small.file(self, side, f"modules/contrib/{name}/{name}.info.yml")
        (kept,), = self.sql(side, "SELECT data FROM config WHERE name = 'core.extension'")
        said = php.read(bytes(kept).decode())
        said["module"][name] = 0
        self.run(side, f"UPDATE config SET data = {self.bytes(said)} WHERE name = 'core.extension'")
        self.insert(side, "key_value", {"collection": "system.schema", "name": name, "value": [8000]})

    # --- what holds on a sound site

    def faults(self, side: str) -> list[str]:
        """What is wrong in its database by the system's own laws; none on a sound one."""
        found: list[str] = []

        def ask(what: str, statement: str) -> None:
            found.extend(f"{what}: {row}" for row in self.sql(side, statement))

        ask("where nothing stands", "SELECT content_entity_id FROM content_moderation_state_field_data s WHERE NOT "
            "EXISTS (SELECT 1 FROM node_revision r WHERE r.nid = s.content_entity_id "
            "AND r.vid = s.content_entity_revision_id)")
        for t in TYPES.values():
            id_, vid = t.keys["id"], t.keys["revision"]
            if t.data:
                for what, one, other in (("without values", t.base, t.data), ("values of nothing", t.data, t.base)):
                    ask(f"{t.id} {what}", f"SELECT {id_} FROM {one} WHERE {id_} NOT IN (SELECT {id_} FROM {other})")
            if t.revision:
                ask(f"{t.id} without its revision", f"SELECT b.{id_} FROM {t.base} b LEFT JOIN {t.revision} r ON "
                    f"r.{vid} = b.{vid} AND r.{id_} = b.{id_} WHERE r.{vid} IS NULL")
                if t.data:
                    ask(f"two current revisions of {t.id}", f"SELECT b.{id_} FROM {t.base} b JOIN {t.data} d ON "
                        f"d.{id_} = b.{id_} WHERE d.{vid} <> b.{vid}")
            for name, f in t.own.items():
                table = f"{t.id}__{name}"
                ask(f"{table} of nothing", f"SELECT entity_id FROM {table} WHERE entity_id NOT IN (SELECT {id_} FROM "
                    f"{t.base})")
                ask(f"{table} does not run from 0", f"SELECT entity_id FROM {table} GROUP BY entity_id HAVING "
                    "MAX(delta) + 1 <> COUNT(DISTINCT delta)")
                if t.revision:
                    ask(f"{table} of another revision", f"SELECT f.entity_id FROM {table} f JOIN {t.base} b ON "
                        f"b.{id_} = f.entity_id WHERE f.revision_id <> b.{vid}")
                goal = TYPES.get(f.to)
                if goal:
                    ask(f"{table} leads nowhere", f"SELECT entity_id FROM {table} WHERE {name}_target_id <> 0 AND "
                        f"{name}_target_id NOT IN (SELECT {goal.keys['id']} FROM {goal.base})")
                if "target_revision_id" in f.columns and goal:
                    ask(f"{table} shows a revision of another", f"SELECT f.entity_id FROM {table} f LEFT JOIN "
                        f"{goal.revision} r ON r.{goal.keys['revision']} = f.{name}_target_revision_id AND "
                        f"r.{goal.keys['id']} = f.{name}_target_id WHERE r.{goal.keys['id']} IS NULL")
        ask("usage of nothing", "SELECT fid FROM file_usage WHERE fid NOT IN (SELECT fid FROM file_managed)")
        number = "UNSIGNED" if self.engine == "mariadb" else "INTEGER"
        ask("an alias of nothing", f"SELECT alias FROM path_alias WHERE path LIKE '/node/%' AND "
            f"CAST(REPLACE(path, '/node/', '') AS {number}) NOT IN (SELECT nid FROM node)")
        ask("listed under nothing", "SELECT nid FROM taxonomy_index WHERE tid NOT IN (SELECT tid FROM "
            "taxonomy_term_data)")
        return found
