"""The seventh generation of the PHP system of entities, on its documented tables: an article and all that it needs."""

from __future__ import annotations

import tempfile
import unittest
from collections.abc import Mapping
from pathlib import Path
from typing import Any

from nostos.core.apply.merge import merge
from nostos.core.plan.prepared import prepare
from nostos.core.plan.selection import Choice
from nostos.core.values import php
from tests.small import BYTES, ENGINES, Small, literal

FIELD = ("entity_type VARCHAR(64), bundle VARCHAR(64), deleted INT, entity_id INT, revision_id INT, "
         "language VARCHAR(12), delta INT")
TABLES = (
    "CREATE TABLE variable (name VARCHAR(128) PRIMARY KEY, value {bytes})",
    "CREATE TABLE system (filename VARCHAR(190) PRIMARY KEY, name VARCHAR(190), type VARCHAR(12), status INT, "
    "schema_version INT, info {bytes})",
    "CREATE TABLE field_config (id {key}, field_name VARCHAR(32), type VARCHAR(64), data {bytes}, deleted INT)",
    "CREATE TABLE field_config_instance (id {key}, field_id INT, field_name VARCHAR(32), entity_type VARCHAR(32), "
    "bundle VARCHAR(64), data {bytes})",
    "CREATE TABLE node (nid {key}, vid INT UNIQUE, type VARCHAR(32), title VARCHAR(190), uid INT, status INT, "
    "created INT, changed INT, tnid INT)",
    "CREATE TABLE node_revision (nid INT, vid {key}, uid INT, title VARCHAR(190), log VARCHAR(190))",
    *(f"CREATE TABLE field_{kind}_{name} ({FIELD}, {columns}, "
      f"PRIMARY KEY (entity_type, entity_id, {more}deleted, delta, language))"
      for name, columns in (("body", "body_value TEXT, body_format VARCHAR(50)"), ("field_tags", "field_tags_tid INT"),
                            ("field_near", "field_near_target_id INT"))
      for kind, more in (("data", ""), ("revision", "revision_id, "))),
    "CREATE TABLE taxonomy_vocabulary (vid {key}, name VARCHAR(190), machine_name VARCHAR(64) UNIQUE)",
    "CREATE TABLE taxonomy_term_data (tid {key}, vid INT, name VARCHAR(190), weight INT)",
    "CREATE TABLE taxonomy_term_hierarchy (tid INT, parent INT, PRIMARY KEY (tid, parent))",
    "CREATE TABLE taxonomy_index (nid INT, tid INT, created INT, PRIMARY KEY (nid, tid))",
    "CREATE TABLE users (uid INTEGER PRIMARY KEY, name VARCHAR(60) UNIQUE, pass VARCHAR(128), mail VARCHAR(190), "
    "created INT)",
    "CREATE TABLE users_roles (uid INT, rid INT, PRIMARY KEY (uid, rid))",
    "CREATE TABLE role (rid {key}, name VARCHAR(64) UNIQUE, weight INT)",
    "CREATE TABLE role_permission (rid INT, permission VARCHAR(128), module VARCHAR(64), "
    "PRIMARY KEY (rid, permission))",
    "CREATE TABLE url_alias (pid {key}, source VARCHAR(190), alias VARCHAR(190), language VARCHAR(12))",
    "CREATE TABLE menu_links (menu_name VARCHAR(32), mlid {key}, plid INT, link_path VARCHAR(190), link_title "
    "VARCHAR(190), options {bytes}, weight INT, depth INT, p1 INT, p2 INT)",
    "CREATE TABLE comment (cid {key}, pid INT, nid INT, uid INT, subject VARCHAR(64), hostname VARCHAR(128), created "
    "INT, thread VARCHAR(190), name VARCHAR(60), mail VARCHAR(64))",
    "CREATE TABLE node_comment_statistics (nid INT PRIMARY KEY, cid INT, last_comment_timestamp INT, last_comment_uid "
    "INT, comment_count INT)",
)


class Seventh(Small):
    def __init__(self, folder: Path, engine: str) -> None:
        self.engine = engine
        rows = [self.literals("field_config", {"field_name": n, "type": t, "data": d, "deleted": 0}) for n, t, d in (
            ("body", "text_with_summary", {"settings": []}),
            ("field_tags", "taxonomy_term_reference", {"settings": {"allowed_values": [{"vocabulary": "topics"}]}}),
            ("field_near", "entityreference", {"settings": {"target_type": "node"}}))]
        rows += [self.literals("users", {"uid": n, "name": f"ed{n}", "created": n}) for n in (1, 2)]
        rows.append(self.literals("role", {"name": "editor", "weight": 1}))
        rows.append(self.literals("users_roles", {"uid": 2, "rid": 1}))
        rows.append(self.literals("taxonomy_vocabulary", {"name": "Topics", "machine_name": "topics"}))
        rows += [self.literals("taxonomy_term_data", {"vid": 1, "name": n, "weight": 0}) for n in ("Birds", "Stars")]
        rows.append(self.literals("variable", {"name": "site_name", "value": "Kestrel Ridge"}))
        super().__init__(folder, engine, (*(t.replace("{bytes}", BYTES[engine]) for t in TABLES), *rows))

    def literals(self, table: str, row: Mapping[str, Any]) -> str:
        values = ", ".join(self.kept(v) if isinstance(v, dict | list) or c == "value" else
                           "NULL" if v is None else str(v) if isinstance(v, int) else f"'{v}'" for c, v in row.items())
        return f"INSERT INTO {table} ({', '.join(row)}) VALUES ({values})"

    def kept(self, value: Any) -> str:
        """A value as it is kept, as a literal."""
        return literal(self.engine, php.write(value).encode())

    def add(self, side: str, table: str, key: str = "", **row: Any) -> int:
        self.sql(side, self.literals(table, row))
        return int(self.sql(side, f"SELECT MAX({key}) FROM {table}")[0][0]) if key else 0

    def article(self, side: str, title: str, tags: tuple[int, ...], near: int, body: str, uid: int = 2) -> int:
        """What the system writes when somebody saves a new one."""
        nid = self.add(side, "node", "nid", vid=None, type="article", title=title, uid=uid, status=1, created=7,
                       changed=7, tnid=0)
        vid = self.add(side, "node_revision", "vid", nid=nid, uid=uid, title=title, log="")
        self.sql(side, f"UPDATE node SET vid = {vid} WHERE nid = {nid}")
        for kind in ("data", "revision"):
            of = {"entity_type": "node", "bundle": "article", "deleted": 0, "entity_id": nid, "revision_id": vid,
                  "language": "und"}
            self.add(side, f"field_{kind}_body", **of, delta=0, body_value=body, body_format="html")
            self.add(side, f"field_{kind}_field_near", **of, delta=0, field_near_target_id=near)
            for delta, tid in enumerate(tags):
                self.add(side, f"field_{kind}_field_tags", **of, delta=delta, field_tags_tid=tid)
        for tid in tags:
            self.add(side, "taxonomy_index", nid=nid, tid=tid, created=7)
        self.add(side, "url_alias", source=f"node/{nid}", alias=title.lower(), language="und")
        self.add(side, "node_comment_statistics", nid=nid, cid=0, last_comment_timestamp=7, last_comment_uid=uid,
                 comment_count=0)
        link = self.add(side, "menu_links", "mlid", menu_name="main", plid=0, link_path=f"node/{nid}", link_title=title,
                        options=[], weight=0, depth=1, p1=0, p2=0)
        self.sql(side, f"UPDATE menu_links SET p1 = {link} WHERE mlid = {link}")
        return nid


class Generation(unittest.TestCase):
    def test_an_article_comes_home_with_all_that_it_needs(self) -> None:
        for engine in ENGINES:
            with self.subTest(engine), tempfile.TemporaryDirectory() as made:
                site = Seventh(Path(made), engine)
                first = site.article("live", "Storm", (1,), 0, "theirs")
                site.add("live", "comment", nid=first, pid=0, uid=0, subject="So true", hostname="192.0.2.1", created=8,
                         thread="01/", name="Vera", mail="vera@visitor.example")
                site.add("live", "users", uid=3, name="newcomer", created=8)
                crew = site.article("staging", "Crew", (2,), 0, "us")
                moons = site.add("staging", "taxonomy_term_data", "tid", vid=1, name="Moons", weight=0)
                site.add("staging", "taxonomy_term_hierarchy", tid=moons, parent=2)
                site.article("staging", "Tides", (2, moons), crew, f'See <a href="/node/{crew}">us</a>, 3 of us')
                site.sql("staging", f"UPDATE variable SET value = {site.kept('Kestrel Hill')}")
                self.assertEqual(crew, first)
                with site.crew() as both:
                    ready = prepare(both, Choice())
                    self.assertEqual(ready.comparison.questions, ())
                    merge(site.home, both, ready)
                ((tides, near, body),) = site.sql(
                    "live", "SELECT n.nid, field_near_target_id, b.body_value FROM node n JOIN field_data_field_near f "
                            "ON f.entity_id = n.nid AND f.revision_id = n.vid JOIN field_data_body b ON b.entity_id = "
                            "n.nid AND b.revision_id = n.vid JOIN node_revision r ON r.vid = n.vid AND r.nid = n.nid "
                            "WHERE n.title = 'Tides'")
                ((us,),) = site.sql("live", "SELECT nid FROM node WHERE title = 'Crew'")
                self.assertNotEqual(us, crew)
                self.assertEqual((near, body), (us, f'See <a href="/node/{us}">us</a>, 3 of us'))
                self.assertEqual(site.sql("live", "SELECT link_path, p1 - mlid FROM menu_links WHERE link_title = "
                                                  "'Tides'"), [(f"node/{tides}", 0)])
                self.assertEqual(site.sql("live", "SELECT source FROM url_alias WHERE alias = 'tides'"), [
                    (f"node/{tides}",)])
                self.assertEqual(site.sql("live", "SELECT name FROM field_data_field_tags, taxonomy_term_data WHERE "
                                                  f"tid = field_tags_tid AND entity_id = {tides} ORDER BY delta"),
                                 [("Stars",), ("Moons",)])
                self.assertEqual(site.sql("live", "SELECT nid FROM comment"), [(first,)])
                ((name,),) = site.sql("live", "SELECT value FROM variable")
                self.assertEqual(bytes(name), b's:12:"Kestrel Hill";')
                self.assertNotIn("homeward", site.standings().values())


if __name__ == "__main__":
    unittest.main()
