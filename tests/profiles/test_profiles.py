"""Profiles: what one may say, what the schema adds, and clear errors for what cannot be."""
import sqlite3

from nostos.core.compare.known import known_of
from nostos.core.engines.sqlite.connection import SqliteDatabase
from nostos.core.errors import SiteError
from nostos.core.profiles import from_schema as deduce
from nostos.core.profiles import loader
from nostos.core.profiles.places import Place
from nostos.core.profiles.policies import policy_named
from nostos.core.sites.recognise import recognise
from tests.support import SiteTest, rows

HEAD = '[profile]\nname = "x"\ntitle = "X"\n'


class Loading(SiteTest):
    def test_what_cannot_be_is_named(self) -> None:
        for text, says in {
            "[profile": "not valid TOML",
            "": "'profile' is missing",
            HEAD + '[[kind]]\nname = "a"\n': "'table' is missing",
            HEAD + '[[reference]]\ncolumn = "a.b"\n': "neither `to` nor `to_folder`",
            HEAD + '[[reference]]\ncolumn = "b"\nto = "c"\n': "not written as table.column",
            HEAD + '[[reference]]\ncolumn = "a.b"\nto = "c"\npattern = "(a)(b)"\n': "exactly one group",
            HEAD + '[[policy]]\ncolumn = "a.b"\npolicy = "guess"\n': "guess",
            HEAD + '[[setting-policy]]\npolicy = "local"\nnames = ["a"]\n': "no [settings]",
            HEAD + '[guards.file]\npath = "x"\ntemplate = "../x"\ndoes = ""\n': "not one of Nostos's own",
            HEAD + '[[kind]]\nname = "a"\ntable = "t"\n[[child]]\ntable = "t"\nof = "b"\nname = "n"\nlabel = "l"\n':
                "both a kind and a child",
        }.items():
            with self.subTest(says), self.assertRaises(SiteError) as caught:
                loader.parse(text, "file.toml")
            self.assertIn(says, caught.exception.what)

    def test_what_every_command_asks_of_profiles_stands_at_their_beginning(self) -> None:
        self.assertEqual(loader.configurations(), {
            name: p.configuration for name, p in loader.built_in().items() if p.configuration is not None})
        self.assertEqual([name for name, p in loader.built_in().items() if p.name != name], [])

    def test_the_first_that_fits_counts(self) -> None:
        profile = loader.built_in()["wordpress"]
        for name, policy in {"siteurl": policy_named("local"), "_transient_x": policy_named("volatile"),
                             "active_plugins": policy_named("set"),
                             "blogname": policy_named("structure")}.items():
            self.assertEqual(profile.policy("options", {"option_name": name}, "option_value"), policy)
        kinds = {("attachment", "image/png"): "picture", ("attachment", "video/mp4"): "media", ("page", ""): "page",
                 ("nav_menu_item", ""): "menu-entry", ("observation", ""): "observation"}
        for (kind, mime), name in kinds.items():
            row = {"post_type": kind, "post_mime_type": mime, "post_status": "publish"}
            found = profile.kind_of("posts", row)
            assert found is not None
            self.assertEqual(found.named(row), name)
        self.assertTrue(profile.bears_prefix("usermeta", "meta_key", "capabilities"))
        self.assertFalse(profile.bears_prefix("options", "option_name", "page_for_privacy_policy"))

    def test_files_made_from_one(self) -> None:
        owned = loader.built_in()["wordpress"].files[0]
        for name in ("sky-300x200.png", "sky-scaled.png", "sky.png"):
            self.assertIn("2026/sky.png", owned.values(f"wp-content/uploads/2026/{name}"))
        self.assertEqual(owned.values("wp-content/themes/sky.png"), ())


class Layers(SiteTest):
    def test_what_a_framework_calls_its_keys(self) -> None:
        """A number of a column that no key is called like is a number, whatever it equals."""
        path = self.folder / "site.db"
        with sqlite3.connect(path) as db:
            db.executescript("""
                CREATE TABLE django_content_type (id INTEGER PRIMARY KEY, app_label TEXT, model TEXT);
                CREATE TABLE auth_permission (id INTEGER PRIMARY KEY);
                CREATE TABLE auth_group (id INTEGER PRIMARY KEY);
                CREATE TABLE hill_tour (id INTEGER PRIMARY KEY, opens INTEGER, guide_id INTEGER, note TEXT);
                CREATE TABLE hill_night (tour_ptr_id INTEGER PRIMARY KEY REFERENCES hill_tour(id));
                CREATE TABLE hill_of (id INTEGER PRIMARY KEY, content_type_id INTEGER, thing INTEGER);
                CREATE TABLE hill_star (id INTEGER PRIMARY KEY, object_id INTEGER, thing INTEGER,
                    content_type_id INTEGER REFERENCES django_content_type(id))""")
        database = SqliteDatabase(path, readonly=True)
        tables = database.tables()
        database.close()
        profile = deduce.complete(deduce.recognise(tables, loader.built_in()), tables)
        self.assertEqual([profile.closes(Place("hill_tour", c), tables["hill_tour"].column(c))
                          for c in ("opens", "guide_id", "note")], [True, False, True])
        # Where no column is called so, any may hold what the type beside it says.
        self.assertEqual([profile.closes(Place(t, "thing"), tables[t].column("thing"))
                          for t in ("hill_star", "hill_of")], [True, False])
        of = {r.where: r.to for r in profile.references_of("hill_star") if r.column == "object_id"}
        for model in ("tour", "night"):  # whose rows go on with those of a tour, under its numbers
            said = ("content_type_id.app_label", "hill"), ("content_type_id.model", model)
            self.assertEqual(of[said], "hill_tour")

    def test_a_profile_builds_upon_another(self) -> None:
        mine = self.folder / "mine.toml"
        mine.write_text(HEAD.replace('"X"', '"X"\nextends = "observatory"') + '[[kind]]\nname = "tip"\n'
                        'table = "content"\nwhere = { kind = "tip" }\n')
        found, base = loader.load("mine.toml", self.folder), loader.built_in()["observatory"]
        self.assertEqual((found.name, found.kinds[0].name, found.references), ("x", "tip", base.references))
        mine.write_text(HEAD.replace('"X"', '"X"\nextends = "mine.toml"'))
        with self.assertRaisesRegex(SiteError, "in a circle"):
            loader.load("mine.toml", self.folder)
        for said, more in (("away.toml", HEAD.replace('"X"', '"X"\nextends = "away.toml"')),
                           ("loader.py", HEAD + '[ask]\nprogram = "php"\ntemplate = "loader.py"\n'),
                           ("away.php", HEAD + '[ask]\nprogram = "php"\ntemplate = "away.php"\n')):
            mine.write_text(more)
            with self.assertRaisesRegex(SiteError, said):
                loader.load("mine.toml", self.folder)

    def test_a_file_beside_a_recognised_site_adds_to_it(self) -> None:
        h = self.harbour()
        added = h.live_folder / "nostos.toml"
        added.write_text('visitors = ["note"]\nmade = ["ext_index"]\n[[reference]]\ncolumn = "ext_tips.at"\n'
                         'to = "content"\n')
        for side in (h.live, h.staging):
            rows(side.database, "CREATE TABLE ext_tips (id INTEGER PRIMARY KEY AUTOINCREMENT, title TEXT, at INTEGER)")
            rows(side.database, "CREATE TABLE ext_index (id INTEGER PRIMARY KEY AUTOINCREMENT, word TEXT)")
        page = h.staging.add("page", "new-page", "New page")
        h.live.add("note", "other", "Live's own")
        h.staging.add("note", "test", "A test")
        rows(h.staging.database, "INSERT INTO ext_tips (title, at) VALUES ('Tip', ?)", page)
        rows(h.staging.database, "INSERT INTO ext_index (word) VALUES ('x')")
        found = h.compare()
        tip = next(i for i in found.items.values() if i.kind == "ext_tips")
        self.assertIn("ext_tips.at: it points at content: its administrator", known_of(found, tip))
        self.assertTrue(found.items["note/test"].visitors)
        self.assertFalse([i for i in found.items if i.startswith("ext_index")])
        h.merge()
        self.assertEqual(rows(h.live.database, "SELECT at FROM ext_tips"), [(h.live.find("page", "new-page")["id"],)])
        added.write_text("[[refrence]]\n")
        with self.assertRaisesRegex(SiteError, "it says refrence"):
            recognise(h.live_folder)


class Deducing(SiteTest):
    def test_what_keys_say(self) -> None:
        path = self.folder / "x.db"
        connection = sqlite3.connect(path)
        connection.executescript("""
            CREATE TABLE a (id INTEGER PRIMARY KEY, code TEXT UNIQUE);
            CREATE TABLE b (id INTEGER PRIMARY KEY REFERENCES a(id), options JSON);
            CREATE TABLE c (b_id INTEGER REFERENCES b(id), n INTEGER, PRIMARY KEY (b_id, n));
            CREATE TABLE d (x INTEGER, y INTEGER, code TEXT REFERENCES a(code),
                            FOREIGN KEY (x, y) REFERENCES c (b_id, n));
            CREATE TABLE e (name TEXT NOT NULL UNIQUE, v TEXT);""")
        connection.close()
        database = SqliteDatabase(path)
        tables = database.tables()
        profile = deduce.complete(deduce.NO_PROFILE, tables)
        database.close()
        self.assertEqual({n: t.surrogate for n, t in tables.items()},
                         {"a": True, "b": False, "c": False, "d": False, "e": False})
        self.assertEqual((tables["d"].key, tables["e"].key), ((), ("name",)))
        self.assertEqual({(r.table, r.column): (r.to, r.to_column) for r in profile.references}, {
            ("b", "id"): ("a", None), ("c", "b_id"): ("a", None), ("d", "x"): ("a", None), ("d", "y"): ("c", "n"),
            ("d", "code"): ("a", "code")})
        self.assertEqual({k.name: k.identity for k in profile.kinds}, {
            "a": ("code",), "b": ("id",), "c": ("b_id", "n"), "e": ("name",)})
        self.assertEqual(profile.policy("b", {}, "options"), policy_named("structure"))
