"""Entities of the second PHP system, on a stand-in: what people do with articles, terms, menus and roles."""

from __future__ import annotations

import shutil
import tempfile
import unittest
from contextlib import closing
from pathlib import Path

from nostos.core.anchor.names import Side
from nostos.core.anchor.open_voyage import Crew, opened
from nostos.core.apply.merge import merge
from nostos.core.backup.items import detached, prepare_things
from nostos.core.backup.new_site import make_place
from nostos.core.backup.outlook import inspect_backup
from nostos.core.backup.restore import restore
from nostos.core.backup.write import backup
from nostos.core.clone.clone import clone
from nostos.core.compare.field_merge import Standing
from nostos.core.errors import SelectionError
from nostos.core.plan.prepared import PreparedMerge, compare_voyage, prepare
from nostos.core.plan.selection import Choice
from nostos.core.sites.recognise import recognise
from nostos.core.takeback.undo import prepare_undo, to_take_back
from nostos.core.values import php
from nostos.core.voyages.home import Home
from tests.entities.system import NOW, EntitySite
from tests.small import ENGINES


def menu(site: EntitySite, side: str, title: str, nid: int) -> int:
    """A link in a menu, with its place in it."""
    link = site.save(side, "menu_link_content", {
        "title": title, "menu_name": "main", "link__uri": f"entity:node/{nid}", "link__title": "", "link__options": [],
        "parent": "", "weight": 0, "changed": NOW}, {})
    (called,), = site.sql(side, f"SELECT uuid FROM menu_link_content WHERE id = {link}")
    place = site.number(side, "menu_tree", "mlid")
    site.insert(side, "menu_tree", {
        "menu_name": "main", "id": f"menu_link_content:{called}", "parent": "", "route_name": "entity.node.canonical",
        "route_param_key": f"node={nid}", "route_parameters": {"node": str(nid)}, "title": [title], "options": [],
        "provider": "menu_link_content", "metadata": {"entity_id": str(link)}, "depth": 1, "weight": 0, "p1": place,
        "p2": 0})
    return link


def config(site: EntitySite, side: str, name: str, data: dict[str, object]) -> None:
    """An object of configuration is set."""
    site.run(side, f"DELETE FROM config WHERE name = '{name}'")
    site.insert(side, "config", {"collection": "", "name": name, "data": data})


def permissions(site: EntitySite, side: str, *names: str) -> None:
    said = site.bytes({"id": "editor", "dependencies": {"config": ["node.type.article"]}, "permissions": [*names]})
    site.run(side, f"UPDATE config SET data = {said} WHERE name = 'user.role.editor'")


class Articles(unittest.TestCase):
    def test_a_week_on_both_sides(self) -> None:
        for engine in ENGINES:
            with self.subTest(engine), tempfile.TemporaryDirectory() as made:
                self.week(EntitySite(Path(made), engine))

    def test_one_article_brings_what_it_depends_on(self) -> None:
        for engine in ENGINES:
            with self.subTest(engine), tempfile.TemporaryDirectory() as made:
                site = EntitySite(Path(made), engine)
                self.person(site, "live", "Newcomer")
                author = self.person(site, "staging", "Author")  # by the number of live's newcomer
                moons = site.save("staging", "taxonomy_term", {"name": "Moons", "weight": 9, "status": 1},
                                  {"parent": [{"target_id": 0}]}, bundle="topics")
                site.article("staging", "Tides", tags=[moons, 2], image="tide.jpg", slabs=["High"], uid=author)
                site.save("staging", "node", {"title": "Elsewhere", "changed": NOW + 9}, {}, "article", 7)
                with self.assertRaisesRegex(SelectionError, "an account, and goes only when it is named"):
                    self.merged(site, Choice(("article/13",)))
                ready = self.merged(site, Choice(("article/13", "member/5~staging")))
                self.assertEqual({i.kind for i in ready.plan.selection.items}, {
                    "article", "member", "term", "upload", "slab", "path-alias"})
                self.assertEqual(site.sql("live", "SELECT COUNT(*) FROM path_alias WHERE alias = '/tides'"), [(1,)])
                self.assertEqual(site.faults("live"), [])
                self.assertEqual(site.sql("live", "SELECT u.name FROM node_field_data d JOIN users_field_data u ON "
                                                  "u.uid = d.uid WHERE d.title = 'Tides'"), [("Author",)])
                self.assertEqual(site.sql("live", "SELECT uid FROM users_field_data WHERE name = 'Newcomer'"), [(5,)])
                self.assertEqual(site.sql("live", "SELECT title FROM node_field_data WHERE nid = 7"), [("Story 7",)])
                with site.crew() as crew:  # and back
                    merge(site.home, crew, prepare_undo(site.home, crew, to_take_back(site.home, "trip", None)))
                self.assertEqual(site.faults("live"), [])
                self.assertEqual(site.sql("live", "SELECT name FROM users_field_data WHERE uid > 4"), [("Newcomer",)])

    def test_a_field_made_in_staging_goes_home_whole(self) -> None:
        for engine in ENGINES:
            with self.subTest(engine), tempfile.TemporaryDirectory() as made:
                site = EntitySite(Path(made), engine)
                site.field("staging", "field_place", "taxonomy_term")
                site.field("staging", "field_else", "node")
                site.field("live", "field_mood", "taxonomy_term")
                moons = site.save("staging", "taxonomy_term", {"name": "Moons", "weight": 9, "status": 1},
                                  {"parent": [{"target_id": 0}]}, bundle="topics")
                site.save("live", "taxonomy_term", {"name": "Tides", "weight": 9, "status": 1},
                          {"parent": [{"target_id": 0}]}, bundle="topics")
                site.save("staging", "node", {"changed": NOW + 5}, {"field_place": [{"target_id": moons}]},
                          "article", 4)
                ready = self.merged(site, Choice(("article/4",)))
                taken = {i.id for i in ready.plan.selection.items}
                for of in ("place", "else"):  # the definitions of all fields are kept in one
                    self.assertLessEqual({
                        f"table/node__field_{of}", f"table/node_revision__field_{of}",
                        f"config/field.storage.node.field_{of}", f"config/field.field.node.article.field_{of}",
                        f"stored/entity.storage_schema.sql,node.field_schema_data.field_{of}"}, taken)
                self.assertEqual(len(taken), 13)
                self.assertEqual(site.faults("live"), [])
                self.assertEqual(site.sql("live", "SELECT name FROM node__field_place, taxonomy_term_field_data WHERE "
                                                  "tid = field_place_target_id"), [("Moons",)])
                (known,), = site.sql("live", "SELECT value FROM key_value WHERE name = "
                                             "'node.field_storage_definitions'")
                fields = {n for n in php.read(bytes(known).decode()) if n.startswith("field_")}
                self.assertLessEqual({"field_place", "field_else", "field_mood"}, fields)
                for name in fields:
                    site.sql("live", f"SELECT entity_id FROM node__{name}")
                self.assertEqual(site.compare().items.keys() & {"article/4", "term/6~staging"}, set())

    def test_configuration_and_markup_bring_what_they_name(self) -> None:
        for engine in ENGINES:
            with self.subTest(engine), tempfile.TemporaryDirectory() as made:
                site = EntitySite(Path(made), engine)
                for side in ("live", "staging"):  # what nobody has, nobody has missed
                    config(site, side, "views.view.old", {"dependencies": {"config": ["node.type.never"]}})
                site.article("live", "Storm warning")
                ours = site.article("staging", "Ours", image="ours.jpg")
                (called,), (picture,) = site.sql("staging", f"SELECT uuid FROM node WHERE nid = {ours} UNION ALL "
                                                            "SELECT uuid FROM file_managed WHERE fid = 13")
                site.module("staging", "tide")
                config(site, "staging", "views.view.tides", {"dependencies": {"module": ["tide"]}})
                config(site, "staging", "block.block.tides", {
                    "dependencies": {"config": ["views.view.tides", "node.type.article"], "theme": ["dusk"],
                                     "content": [f"node:article:{called}"]}})
                config(site, "staging", "views.view.old", {"dependencies": {"config": ["node.type.never"]}, "rows": 9})
                site.save("staging", "node", {"changed": NOW + 7}, {"body": [{
                    "value": f'<p><img data-entity-uuid="{picture}"></p>', "summary": "", "format": "basic_html"}]},
                    "article", 4)
                with site.crew() as crew:
                    def taken(picked: str, crew: Crew = crew) -> set[str]:
                        return {i.id for i in prepare(crew, Choice((picked,))).plan.selection.items}

                    self.assertEqual(taken("config/views.view.old"), {"config/views.view.old"})
                    self.assertIn(f"upload/{ours}", taken("article/4"))
                    block = taken("config/block.block.tides")
                    self.assertLessEqual({"config/views.view.tides", f"article/{ours}~staging", "module/tide"}, block)
                    self.assertLessEqual({"module/tide", "schema-version/tide"}, taken("config/core.extension"))
                    merge(site.home, crew, prepare(crew, Choice(("config/block.block.tides",))))
                # Now it is live's: what live's own configuration depends on stays.
                config(site, "live", "block.block.more", {"dependencies": {"config": ["views.view.tides"]}})
                for name in ("views.view.tides", "block.block.tides"):
                    site.run("staging", f"DELETE FROM config WHERE name = '{name}'")
                site.remove("staging", 4)
                self.merged(site, Choice())
                self.assertEqual(site.sql("live", "SELECT name FROM config WHERE name LIKE '%tides'"), [
                    ("views.view.tides",)])
                self.assertEqual(site.faults("live"), [])

    def test_one_of_several_sites(self) -> None:
        with tempfile.TemporaryDirectory() as made:
            live, home = Path(made) / "several", Home(Path(made) / "more")
            shutil.copytree(EntitySite(Path(made), "sqlite").live_folder, live)
            first, second = live / "sites/default", live / "sites/second"
            shutil.copytree(first, second)
            shutil.copy(live / "site.db", live / "second.db")
            (second / "settings.php").write_text((first / "settings.php").read_text().replace("site.db", "second.db"))
            (first / "files").mkdir(exist_ok=True)
            (first / "files/first.txt").write_text("the other site's")
            (live / "nostos.toml").write_text('[site]\nname = "second"\nurl = "http://127.0.0.1:8432"\n'
                                              'database = "sqlite:///second.db"\n')
            clone(home, live, "trip", Path(made) / "copy", "http://127.0.0.1:8433")
            self.assertEqual({p.name for p in (Path(made) / "copy/sites").iterdir()}, {"second", "sites.php"})
            self.assertIn("'8433.127.0.0.1'] = 'second'", (Path(made) / "copy/sites/sites.php").read_text())
            said = (Path(made) / "copy/sites/second/settings.php").read_text()
            self.assertIn(str(Path(made) / "copy/second.db"), said)
            with opened(home, home.read("trip")) as crew:
                self.assertEqual(compare_voyage(crew)[0].items, {})

    def test_exported_configuration_is_a_second_truth(self) -> None:
        with tempfile.TemporaryDirectory() as made:
            site = EntitySite(Path(made), "sqlite")
            place = site.staging_folder / "sites/default/files/sync"
            place.mkdir(parents=True)
            said = {"id": "tides", "on": True, "weight": -3, "ratio": php.read("d:0.5;"), "note": None, "words": [],
                    "names": ["a", "b"], "map": {"7": {"x": "1"}}, "_core": {"default_config_hash": "h"}}
            exported = ("id: tides\n'on': true\nweight: -3\nratio: 0.5\nnote: null\nwords: {  }\nnames:\n  - a\n"
                        "  - b\nmap:\n  7:\n    x: '1'\n")
            for name in ("views.view.same", "views.view.other", "views.view.unsaid"):
                config(site, "staging", name, said)
            (place / "views.view.same.yml").write_text(exported)
            (place / "views.view.other.yml").write_text(exported.replace("- b", "- c"))
            (place / "user.role.editor.yml").write_text("id: somebody\n")
            self.assertEqual(site.compare().exported, ())  # nothing says that it is exported there
            (place / "core.extension.yml").write_text("module: {}\n")
            self.assertEqual(site.compare().exported, ("core.extension", "user.role.editor", "views.view.other",
                                                       "views.view.unsaid"))

    def test_drafts_go_with_where_they_stand(self) -> None:
        for engine in ENGINES:
            with self.subTest(engine), tempfile.TemporaryDirectory() as made:
                site = EntitySite(Path(made), engine)
                site.article("live", "Storm warning")
                site.moderate("live", 3, 3, "archived")
                later = site.draft("staging", 2, "Story 2, again")
                site.moderate("staging", 2, later, "draft", 2)
                new = site.article("staging", "Unseen")
                (vid,), = site.sql("staging", f"SELECT vid FROM node WHERE nid = {new}")
                site.moderate("staging", new, int(vid), "draft")
                self.assertEqual(site.faults("staging"), [])
                self.assertEqual([q.place for q in site.compare().questions], [])
                self.merged(site, Choice((f"article/{new}~staging", "article/2")))
                self.assertEqual(site.faults("live"), [])
                self.assertEqual(site.sql("live", "SELECT d.title, s.moderation_state, r.title FROM node_field_data "
                                          "d JOIN content_moderation_state_field_data s ON s.content_entity_id = d.nid "
                                          "JOIN node_field_revision r ON r.vid = s.content_entity_revision_id "
                                          "ORDER BY d.nid"), [
                    ("Story 1", "published", "Story 1"), ("Story 2", "draft", "Story 2, again"),
                    ("Story 3", "archived", "Story 3"), ("Unseen", "draft", "Unseen")])

    def test_an_extension_s_update_goes_home_whole(self) -> None:
        for engine in ENGINES:
            with self.subTest(engine), tempfile.TemporaryDirectory() as made:
                site = EntitySite(Path(made), engine)
                key = "INTEGER PRIMARY KEY"
                site.module("staging", "tide")
                site.sql("staging", f"CREATE TABLE tide_log (id {key}, said VARCHAR(40))")
                ready = self.merged(site, Choice(("config/core.extension",)))
                self.assertEqual({i.id for i in ready.plan.selection.items}, {
                    "config/core.extension", "module/tide", "schema-version/tide", "table/tide_log"})
                site.sql("live", "INSERT INTO tide_log VALUES (1, 'Live goes on')")
                place = site.staging_folder / "modules/contrib/tide/tide.info.yml"
                place.write_text(place.read_text() + "version: 2.0\n")
                site.sql("staging", "ALTER TABLE tide_log ADD COLUMN seen INT")
                site.sql("staging", f"CREATE TABLE tide_mark (id {key}, at INT)")
                site.run("staging", f"UPDATE key_value SET value = {site.bytes([8001])} WHERE collection = "
                                    "'system.schema' AND name = 'tide'")
                for picked in ("schema-version/tide", "module/tide"):
                    with site.crew() as crew:
                        ready = prepare(crew, Choice((picked,)))
                    self.assertEqual({i.id for i in ready.plan.selection.items}, {
                        "module/tide", "schema-version/tide", "column/tide_log.seen", "table/tide_mark"})
                self.merged(site, Choice(("module/tide",)))
                self.assertEqual(site.sql("live", "SELECT said, seen FROM tide_log"), [("Live goes on", None)])
                self.assertEqual(site.faults("live"), [])

    def test_a_translation_beside_a_correction(self) -> None:
        for engine in ENGINES:
            with self.subTest(engine), tempfile.TemporaryDirectory() as made:
                site = EntitySite(Path(made), engine)
                site.save("live", "node", {"title": "Corrected", "changed": NOW + 1}, {}, "article", 2)
                site.save("staging", "node", {"changed": NOW + 2}, {}, "article", 2)
                (vid,), = site.sql("staging", "SELECT vid FROM node WHERE nid = 2")
                german = {"nid": 2, "vid": vid, "langcode": "de", "status": 1, "uid": 3, "title": "Zwei",
                          "created": NOW, "changed": NOW, "default_langcode": 0}
                site.insert("staging", "node_field_data", {**german, "type": "article"})
                site.insert("staging", "node_field_revision", german)
                for table in ("node__body", "node_revision__body"):
                    site.insert("staging", table, {
                        "bundle": "article", "deleted": 0, "entity_id": 2, "revision_id": vid, "langcode": "de",
                        "delta": 0, "body_value": "Worte", "body_summary": "", "body_format": "basic_html"})
                self.assertEqual(self.merged(site, Choice()).plan.selection.clashes, ())
                self.assertEqual(site.sql("live", "SELECT d.title, d.vid - n.vid FROM node_field_data d JOIN node n ON "
                                                  "n.nid = d.nid WHERE n.nid = 2 ORDER BY d.langcode"),
                                 [("Zwei", 0), ("Corrected", 0)])
                self.assertEqual(site.faults("live"), [])

    def test_what_live_has_built_on_is_not_removed(self) -> None:
        for engine in ENGINES:
            with self.subTest(engine), tempfile.TemporaryDirectory() as made:
                site = EntitySite(Path(made), engine)
                for nid in (10, 11):
                    site.remove("staging", nid)
                self.assertEqual(site.faults("staging"), [])
                site.comment("live", 11, "Let it stay")
                self.merged(site, Choice())
                self.assertEqual(site.sql("live", "SELECT nid FROM node WHERE nid > 9 ORDER BY nid"), [(11,), (12,)])
                self.assertEqual(site.sql("live", "SELECT alias FROM path_alias WHERE path = '/node/10'"), [])
                self.assertEqual(site.sql("live", "SELECT COUNT(*) FROM node_revision__body WHERE entity_id = 10"),
                                 [(0,)])
                self.assertEqual(site.sql("live", "SELECT COUNT(*) FROM node__body WHERE entity_id = 11"), [(1,)])
                self.assertEqual(site.faults("live"), [])

    def test_one_article_out_of_a_backup(self) -> None:
        for engine in ENGINES:
            with self.subTest(engine), tempfile.TemporaryDirectory() as made:
                site = EntitySite(Path(made), engine)
                live, file = recognise(str(site.live_folder)), Path(made) / "live.tar.zst"
                backup(live, file)
                site.remove("live", 11)
                site.save("live", "node", {"title": "Since then", "changed": NOW + 9}, {}, "article", 12)
                late = site.article("live", "Late", tags=[1])
                ready = prepare_things(site.home, file, live, Choice(("article/11",)), Path(made) / "scratch")
                with closing(live.open(readonly=True)) as database:
                    merge(site.home, detached(live, database), ready)
                self.assertEqual(site.faults("live"), [])
                self.assertEqual(site.sql("live", "SELECT nid, title, body_value FROM node_field_data, node__body "
                                                  "WHERE entity_id = nid AND nid > 10 ORDER BY nid"), [
                    (11, "Story 11", "<p>Words of Story 11.</p>"),
                    (12, "Since then", "<p>Words of Story 12.</p>"), (late, "Late", "<p>Words of Late.</p>")])
                for connection in site.connections.values():
                    connection.close()
                site.connections.clear()
                restore(site.home, inspect_backup(file, live))  # and all of it
                self.assertEqual(site.faults("live"), [])
                self.assertEqual(site.sql("live", "SELECT nid, title FROM node_field_data WHERE nid > 10 ORDER BY nid"),
                                 [(11, "Story 11"), (12, "Story 12")])
                self.assertEqual(site.standings(), {})

    def test_a_new_site_out_of_a_backup_acts_as_one(self) -> None:
        with tempfile.TemporaryDirectory() as made:
            site, file = EntitySite(Path(made), "sqlite"), Path(made) / "live.tar.zst"
            backup(recognise(str(site.live_folder)), file)
            new = make_place(file, Path(made) / "anew", "http://127.0.0.1:8444", None, None)
            restore(site.home, inspect_backup(file, new), anew=True)
            said = (Path(made) / "anew/sites/default/settings.php").read_text()
            self.assertIn(str(Path(made) / "anew/data/site.db"), said)
            for word in ("mail_collector", "cron", "Staging copy", str(site.live_folder)):
                self.assertNotIn(word, said)
            self.assertIn("mail_collector", (site.staging_folder / "sites/default/settings.php").read_text())

    def test_both_sides_at_one_vocabulary_and_one_role(self) -> None:
        for engine in ENGINES:
            with self.subTest(engine), tempfile.TemporaryDirectory() as made:
                site = EntitySite(Path(made), engine)
                for side, changed in (("live", {1: 7}), ("staging", {1: 8, 3: 0})):
                    for tid, weight in changed.items():
                        site.save(side, "taxonomy_term", {"weight": weight}, {}, "topics", tid)
                permissions(site, "live", "access content", "create article content", "delete own article content")
                permissions(site, "staging", "access content", "edit any article content")
                ready = self.merged(site, Choice())
                self.assertEqual([i.id for i in ready.plan.selection.clashes], ["term/1"])
                self.assertEqual(site.sql("live", "SELECT weight FROM taxonomy_term_field_data WHERE tid IN (1, 3) "
                                                  "ORDER BY tid"), [(7,), (0,)])
                (role,), = site.sql("live", "SELECT data FROM config WHERE name = 'user.role.editor'")
                self.assertEqual(php.read(bytes(role).decode())["permissions"], [
                    "access content", "delete own article content", "edit any article content"])
                self.assertEqual(site.faults("live"), [])

    @staticmethod
    def person(site: EntitySite, side: str, name: str) -> int:
        return site.save(side, "user", {"name": name, "mail": f"{name}@visitor.example", "status": 1, "created": NOW},
                         {})

    @staticmethod
    def merged(site: EntitySite, choice: Choice) -> PreparedMerge:
        with site.crew() as crew:
            ready = prepare(crew, choice)
            if ready.acts:
                merge(site.home, crew, ready)
        return ready

    def week(self, site: EntitySite) -> None:
        self.assertEqual([*site.faults("live"), *site.faults("staging")], [])
        self.assertEqual(site.standings(), {})
        # Live lives on.
        theirs = site.article("live", "Storm warning", tags=[2], image="storm.jpg", slabs=["Take care"])
        site.insert("live", "menu_tree", {"id": "system.admin", "menu_name": "admin", "depth": 1, "p1": 1, "p2": 0})
        site.comment("live", 5, "Well said")
        site.order("live", 5, "2001")
        site.save("live", "user", {"name": "newcomer", "mail": "new@visitor.example", "status": 1, "created": NOW}, {})
        site.save("live", "node", {"title": "Story 3, corrected", "changed": NOW + 50}, {}, "article", 3)
        # Staging is worked on.
        moons = site.save("staging", "taxonomy_term", {"name": "Moons", "weight": 9, "status": 1},
                          {"parent": [{"target_id": 2}]}, bundle="topics")
        crew = site.article("staging", "Our crew", tags=[1])
        ours = site.article("staging", "Open day", tags=[3, moons], image="day.jpg", slabs=["Come", "See"],
                            body=f'<p><a href="/node/{crew}">Our crew</a> waits. 14 seats.</p>',
                            more=f"entity:node/{crew}")
        self.assertEqual(crew, theirs)
        link = menu(site, "staging", "Open day", ours)
        site.save("staging", "node", {"changed": NOW + 90}, {"body": [
            {"value": "<p>Better words.</p>", "summary": "", "format": "basic_html"}]}, "article", 3)
        for weight, tid in enumerate((5, 4, 3, 2, 1)):
            site.save("staging", "taxonomy_term", {"weight": weight}, {}, "topics", tid)
        permissions(site, "staging", "access content", "create article content", "edit any article content")
        site.order("staging", 5, "test")
        before = site.sql("live", "SELECT COUNT(*), MAX(total_price__number) FROM till_order")

        compared = site.compare()
        self.assertEqual([q.place for q in compared.questions], [])
        self.assertEqual(self.merged(site, Choice()).plan.selection.clashes, ())

        self.assertEqual(site.faults("live"), [])
        self.assertEqual(site.sql("live", "SELECT COUNT(*), MAX(total_price__number) FROM till_order"), before)
        (nid,), = site.sql("live", "SELECT nid FROM node_field_data WHERE title = 'Open day'")
        (crew_there,), = site.sql("live", "SELECT nid FROM node_field_data WHERE title = 'Our crew'")
        (tid,), = site.sql("live", "SELECT tid FROM taxonomy_term_field_data WHERE name = 'Moons'")
        self.assertNotEqual(crew_there, crew)
        self.assertEqual(site.sql("live", f"SELECT body_value FROM node__body WHERE entity_id = {nid}"), [
            (f'<p><a href="/node/{crew_there}">Our crew</a> waits. 14 seats.</p>',)])
        self.assertEqual(site.sql("live", f"SELECT field_more_uri FROM node__field_more WHERE entity_id = {nid}"), [
            (f"entity:node/{crew_there}",)])
        self.assertEqual(site.sql("live", f"SELECT field_tags_target_id FROM node__field_tags WHERE entity_id = {nid} "
                                          "ORDER BY delta"), [(3,), (tid,)])
        self.assertEqual(site.sql("live", f"SELECT alias FROM path_alias WHERE path = '/node/{nid}'"), [("/open-day",)])
        self.assertEqual(site.sql("live", f"SELECT count FROM file_usage WHERE id = '{nid}'"), [(1,)])
        self.assertTrue((site.live_folder / "sites/default/files/day.jpg").is_file())
        words = site.sql("live", "SELECT w.field_words_value FROM slab__field_words w JOIN slab_item_field_data d ON "
                                 f"d.id = w.entity_id WHERE d.parent_id = '{nid}' ORDER BY w.field_words_value")
        self.assertEqual(words, [("Come",), ("See",)])
        self.assertEqual(site.sql("live", "SELECT p1 - mlid, p2 FROM menu_tree WHERE id LIKE 'menu_link%'"), [(0, 0)])
        (place,), = site.sql("live", "SELECT route_parameters FROM menu_tree WHERE id LIKE 'menu_link%'")
        self.assertEqual(bytes(place), php.write({"node": str(nid)}).encode())
        (uri,), = site.sql("live", "SELECT link__uri FROM menu_link_content_data WHERE title = 'Open day'")
        self.assertEqual((uri, link), (f"entity:node/{nid}", 1))
        # One article, edited on both sides.
        self.assertEqual(site.sql("live", "SELECT d.title, b.body_value FROM node_field_data d JOIN node__body b ON "
                                          "b.entity_id = d.nid WHERE d.nid = 3"),
                         [("Story 3, corrected", "<p>Better words.</p>")])
        self.assertEqual(site.sql("live", "SELECT tid FROM taxonomy_term_field_data WHERE tid < 6 ORDER BY weight"),
                         [(5,), (4,), (3,), (2,), (1,)])
        (role,), = site.sql("live", "SELECT data FROM config WHERE name = 'user.role.editor'")
        self.assertIn("edit any article content", bytes(role).decode())
        self.assertEqual(site.sql("live", "SELECT comment_count FROM comment_entity_statistics WHERE entity_id = 5"), [
            (2,)])
        with site.crew() as crew_of:  # and the other way
            merge(site.home, crew_of, prepare(crew_of, Choice(everyone=True), toward=Side.STAGING))
        self.assertEqual(site.faults("staging"), [])
        self.assertEqual(site.sql("staging", "SELECT uid FROM users_field_data WHERE name = 'newcomer'"), [(5,)])
        self.assertEqual(site.sql("staging", "SELECT COUNT(*) FROM node_field_data n JOIN slab_item_field_data s ON "
                                             "s.parent_id = CAST(n.nid AS CHAR(9)) WHERE n.title = 'Storm warning'"),
                         [(1,)])
        left = {i.kind for i in site.compare().items.values() if i.standing is Standing.HOMEWARD}
        self.assertEqual(left, {"till-order", "till-line"})  # what was tried in staging's shop


if __name__ == "__main__":
    unittest.main()
