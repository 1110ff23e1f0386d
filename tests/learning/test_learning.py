"""Learning on schemas that it was never shown: generated ones, of which the truth is known."""

from __future__ import annotations

import random
import sqlite3
import tempfile
import unittest
from collections import Counter
from dataclasses import dataclass, field
from pathlib import Path

from nostos.core.engines.sqlite.connection import SqliteDatabase
from nostos.core.learning.findings import Certainty
from nostos.core.learning.learn import learn
from nostos.core.profiles import loader
from nostos.core.profiles.from_schema import NO_PROFILE, complete
from nostos.core.profiles.places import Place
from nostos.core.values import words

NOUNS = ("album", "artist", "branch", "city", "class", "course", "device", "engine", "farm", "garden", "harbour",
         "island",
         "journey", "kitchen", "lesson", "mission", "nursery", "orchard", "planet", "query", "river", "species",
         "teacher", "vessel", "workshop", "box", "category", "galaxy")
MEASURES = ("quantity", "year", "price", "width", "position", "rating", "total_count", "sort_order", "weight", "stock",
            "zip", "floor", "shade", "speed")


def plural(noun: str) -> str:
    if noun.endswith("y") and noun[-2] not in "aeiou":
        return noun[:-1] + "ies"
    return noun + ("es" if noun.endswith(("s", "x", "ch", "sh")) else "s")


@dataclass
class Made:
    """A generated schema and what is true of it."""

    sql: list[str] = field(default_factory=list)
    references: dict[tuple[str, str], str] = field(default_factory=dict)
    numbers: set[tuple[str, str]] = field(default_factory=set)
    keys: dict[str, str] = field(default_factory=dict)  # by table
    columns: dict[str, list[str]] = field(default_factory=dict)  # by table: all but its key


class Maker:
    def __init__(self, seed: int) -> None:
        self.random = random.Random(seed)
        self.style = self.random.choice(("snake", "camel", "pascal"))
        self.prefix = self.random.choice(("", "", "tbl", "kr", "ext_shop"))
        self.many = self.random.random() < 0.5
        self.key = self.random.choice(("id", "ID", "uid", "own"))
        self.ending = self.random.choice(("id", "id", "id", "bare", "fk", "front"))
        self.sparse = self.random.choice((1, 1, 7, 1000))

    def name(self, *parts: str) -> str:
        every = [p for part in parts for p in part.split("_") if p]
        if self.style == "snake":
            return "_".join(every)
        joined = "".join(p.capitalize() for p in every)
        return joined if self.style == "pascal" else joined[0].lower() + joined[1:]

    def table(self, noun: str) -> str:
        return self.name(self.prefix, plural(noun) if self.many else noun)

    def column(self, noun: str) -> str:
        return {"id": self.name(noun, "id"), "bare": self.name(noun), "fk": self.name("fk", noun, "id"),
                "front": self.name("id", noun)}[self.ending]

    def make(self) -> Made:
        made, nouns = Made(), self.random.sample(NOUNS, self.random.randint(4, 7))
        ids: dict[str, list[int]] = {}
        for at, noun in enumerate(nouns):
            table = self.table(noun)
            key = self.name(noun, "id") if self.key == "own" else self.key
            count = self.random.randint(4, 40)
            ids[noun] = [n * self.sparse + self.random.randint(0, 2 if self.sparse > 3 else 0)
                         for n in range(1, count + 1)]
            targets = self.random.sample(nouns[:at], min(at, self.random.randint(0, 3)))
            measures = self.random.sample(MEASURES, self.random.randint(1, 4))
            columns = [(self.column(t), t) for t in targets]
            heads = [f'"{key}" INTEGER PRIMARY KEY AUTOINCREMENT', '"remark" TEXT',
                     *(f'"{c}" {self.random.choice(("INTEGER", "TEXT"))}' for c, _ in columns),
                     *(f'"{self.name(m)}" INTEGER' for m in measures)]
            made.sql.append(f'CREATE TABLE "{table}" ({", ".join(heads)})')
            made.keys[table], made.columns[table] = key, ["remark", *(c for c, _ in columns), *map(self.name, measures)]
            made.references.update({(table, c): self.table(t) for c, t in columns})
            made.numbers.update((table, self.name(m)) for m in measures)
            for number in ids[noun]:
                values = [number, "'x'", *(self.random.choice(ids[t]) for _, t in columns),
                          *(self.random.randint(1, 60) for _ in measures)]
                made.sql.append(f'INSERT INTO "{table}" VALUES ({", ".join(map(str, values))})')
        return made


def worlds(m: Maker, path: Path) -> tuple[SqliteDatabase, dict[str, set[object]]]:
    """A site whose tables mean something, and what they mean."""
    order, line, article, place, queue, node, nest, note = (m.table(n) for n in (
        "order", "order_line", "article", "region", "mail_queue", "branch", "species", "order_note"))
    c, key = m.name, "id"
    step, letters = m.random.choice((3, 4, 6)), m.random.choice(("0123456789", "0123456789ABCDEFGHIJKLMNOPQRSTUVWXYZ"))
    head = f'"{key}" INTEGER PRIMARY KEY AUTOINCREMENT'
    with sqlite3.connect(path) as db:
        db.executescript(f"""
            CREATE TABLE "{order}" ({head}, "{c('number')}" TEXT UNIQUE, "{c('contact')}" TEXT, "{c('total')}" INTEGER,
              "{c('currency')}" TEXT);
            CREATE TABLE "{line}" ({head}, "{c('order_id')}" INTEGER NOT NULL REFERENCES "{order}"(id),
              "{c('quantity')}" INTEGER);
            CREATE TABLE "{note}" ({head}, "{c('order_id')}" INTEGER NOT NULL REFERENCES "{order}"(id),
              "{c('text')}" TEXT);
            CREATE TABLE "{article}" ({head}, "{c('title')}" TEXT, "{c('slug')}" TEXT UNIQUE, "{c('body')}" TEXT);
            CREATE TABLE "{place}" ({head}, "{c('title')}" TEXT, "{c('code')}" TEXT UNIQUE);
            CREATE TABLE "{queue}" ({head}, "{c('payload')}" TEXT, "{c('tries')}" INTEGER);
            CREATE TABLE "{node}" ({head}, "{c('path')}" TEXT NOT NULL UNIQUE, "{c('depth')}" INTEGER,
              "{c('title')}" TEXT);
            CREATE TABLE "{nest}" ({head}, "{c('title')}" TEXT, "{c('lft')}" INTEGER, "{c('rgt')}" INTEGER,
              "{c('level')}" INTEGER);""")
        for n in range(1, m.random.randint(6, 40)):
            who = f"v{n}@visitor.example"
            db.execute(f'INSERT INTO "{order}" VALUES (?, ?, ?, 5, ?)', (n, f"N-{n:05}", who, "EUR"))
            db.execute(f'INSERT INTO "{line}" VALUES (?, ?, 2)', (n, n))
            db.execute(f'INSERT INTO "{note}" VALUES (?, ?, ?)', (n, n, "by phone"))
            db.execute(f'INSERT INTO "{article}" VALUES (?, ?, ?, ?)', (n, f"A {n}", f"about-{n * 7 % 41}", "Text"))
            code = "rg" + chr(96 + n % 26) + chr(97 + n // 26)
            db.execute(f'INSERT INTO "{place}" VALUES (?, ?, ?)', (n, f"R {n}", code))
            db.execute(f'INSERT INTO "{queue}" VALUES (?, ?, 0)', (n, "x" * n))
        base = len(letters)
        paths = [""]
        for n in range(m.random.randint(5, 25)):
            up = m.random.choice(paths[-4:] if n else [""])
            own = sum(p.startswith(up) and len(p) == len(up) + step for p in paths) + 1
            paths.append(up + "".join(letters[own // base ** at % base] for at in reversed(range(step))))
            deep = len(paths[-1]) // step
            db.execute(f'INSERT INTO "{node}" VALUES (?, ?, ?, ?)', (n + 1, paths[-1], deep, f"B {n}"))
        for n, (left, right, level) in enumerate(((1, 12, 0), (2, 7, 1), (3, 4, 2), (5, 6, 2), (8, 11, 1), (9, 10, 2))):
            db.execute(f'INSERT INTO "{nest}" VALUES (?, ?, ?, ?, ?)', (n + 1, f"S {n}", left, right, level))
    wanted: dict[str, set[object]] = {
        "visitors": {order, line, note}, "editors": {article, place, node, nest},
        "trees": {node, nest}, "parts": {line, note}, "names": {article, place}, "persons": {(order, c("contact"))}}
    return SqliteDatabase(path, readonly=True), wanted


class Learning(unittest.TestCase):
    def test_generated_schemas(self) -> None:
        counts: Counter[str] = Counter()
        wrong = []
        for seed in range(120):
            made = Maker(seed).make()
            with tempfile.TemporaryDirectory() as folder:
                path = Path(folder) / "site.db"
                with sqlite3.connect(path) as db:
                    for sql in made.sql:
                        db.execute(sql)
                database = SqliteDatabase(path, readonly=True)
                tables = database.tables()
                found = learn(database, tables, complete(NO_PROFILE, tables))
                database.close()
            sure = {(f.place.table, f.place.column): f.to for f in found.findings if f.certainty is Certainty.SURE}
            none = {(f.place.table, f.place.column) for f in found.findings if f.certainty is Certainty.NONE}
            counts["references"] += len(made.references)
            counts["found"] += sum(sure.get(place) == to for place, to in made.references.items())
            counts["sure"] += len(sure)
            wrong += [(seed, place, to) for place, to in sure.items() if made.references.get(place) != to]
            wrong += [(seed, place, "number") for place in none & made.references.keys()]
            counts["numbers"] += len(made.numbers)
            counts["none"] += len(none)
        print(f"\nreferences: {counts['found']} of {counts['references']} found, {len(wrong)} of "
              f"{counts['sure'] + counts['none']} sure findings wrong; {counts['none']} of {counts['numbers']} "
              "numbers known to be none")
        self.assertLessEqual(len(wrong) * 1000, counts["sure"] + counts["none"], wrong[:5])
        self.assertGreaterEqual(counts["found"] / counts["references"], 0.9)

    def test_whose_trees_parts_names_and_persons(self) -> None:
        """Generated as well: shops, bookings, articles, queues, trees of several kinds, in names of several styles."""
        right: Counter[str] = Counter()
        said: Counter[str] = Counter()
        true: Counter[str] = Counter()
        for seed in range(60):
            maker = Maker(seed)
            with tempfile.TemporaryDirectory() as folder:
                database, wanted = worlds(maker, Path(folder) / "site.db")
                tables = database.tables()
                found = learn(database, tables, complete(NO_PROFILE, tables))
                database.close()
            self.assertEqual(found.made, ())  # nothing is, for nothing proves it
            told = {"visitors": set(found.visitors), "editors": set(found.editors),
                    "trees": {t.table for t in found.trees} | {n.table for n in found.nested},
                    "parts": {c.table for c in found.children},
                    "names": {t for t, columns in found.names.items() if columns},
                    "persons": {(t, c) for t, c, _ in found.personal}}
            for what, real in wanted.items():
                right[what] += len(told[what] & real)
                said[what] += len(told[what])
                true[what] += len(real)
        for what in true:
            print(f"{what}: {right[what]} of {said[what]} findings right, {right[what]} of {true[what]} found")
        # What visitors fill is never taken for editors'; what is in doubt counts as visitors'.
        self.assertEqual((right["visitors"], right["editors"]), (true["visitors"], said["editors"]))
        for what in true.keys() - {"visitors", "editors"}:
            self.assertGreaterEqual(right[what], 0.999 * said[what], what)
            self.assertGreaterEqual(right[what], 0.9 * true[what], what)

    def test_what_every_thing_has_one_of_is_part_of_it(self) -> None:
        """A version of each page goes with the pages, however it looks by itself; a receipt of each order does not."""
        for versions, wanted in ((8, False), (7, True)):  # of eight pages
            with self.subTest(versions), tempfile.TemporaryDirectory() as folder:
                with sqlite3.connect(Path(folder) / "site.db") as db:
                    db.executescript("""
                        CREATE TABLE people (id INTEGER PRIMARY KEY, login TEXT, password TEXT);
                        CREATE TABLE pages (id INTEGER PRIMARY KEY, title TEXT, slug TEXT, body TEXT);
                        CREATE TABLE stages (id INTEGER PRIMARY KEY, page_id INTEGER NOT NULL REFERENCES pages (id),
                            number TEXT, state TEXT, by_id INTEGER REFERENCES people (id), modified DATETIME);
                        CREATE TABLE orders (id INTEGER PRIMARY KEY, email TEXT, total DECIMAL(9,2), placed DATETIME);
                        CREATE TABLE receipts (id INTEGER PRIMARY KEY, body TEXT, order_id INTEGER NOT NULL
                            REFERENCES orders (id))""")
                    for n in range(1, 9):
                        db.execute("INSERT INTO pages VALUES (?, 'Page', 'page', 'Text')", (n,))
                        db.execute("INSERT INTO orders VALUES (?, 'v@visitor.example', 9, '2026-01-01 10:00:00')", (n,))
                        db.execute("INSERT INTO receipts VALUES (?, 'Thank you', ?)", (n, n))
                        if n <= versions:
                            db.execute("INSERT INTO stages VALUES (?, ?, '1', 'out', NULL, '2026-01-01 10:00:00')",
                                       (n, n))
                database = SqliteDatabase(Path(folder) / "site.db", readonly=True)
                tables = database.tables()
                found = learn(database, tables, complete(NO_PROFILE, tables))
                database.close()
                self.assertEqual("stages" in found.visitors, wanted)
                self.assertLessEqual({"orders", "receipts"}, {*found.visitors})

    def test_who_wrote_it_and_what_has_nothing_of_its_own(self) -> None:
        """Posts by who may edit are editors', with what ties them together and goes on with them; others' are not."""
        profile = loader.parse('[profile]\nname = "x"\ntitle = "X"\n[administrators]\ntable = "people"\nkey = "id"\n'
                               'where = { staff = "1" }\n', "x")
        theirs = {"posts", "posts_related", "posts_long"}
        for writer, wanted in ((1, set[str]()), (2, theirs)):
            with self.subTest(writer), tempfile.TemporaryDirectory() as folder:
                with sqlite3.connect(Path(folder) / "site.db") as db:
                    db.executescript("""
                        CREATE TABLE people (id INTEGER PRIMARY KEY, login TEXT, password TEXT, staff INTEGER);
                        INSERT INTO people VALUES (1, 'keeper', 'x', 1), (2, 'reader', 'x', 0);
                        CREATE TABLE posts (id INTEGER PRIMARY KEY, writer_id INTEGER NOT NULL REFERENCES people (id),
                            title TEXT, slug TEXT, rating INTEGER, posted DATETIME);
                        CREATE TABLE posts_related (id INTEGER PRIMARY KEY, one_id INTEGER NOT NULL
                            REFERENCES posts (id), other_id INTEGER NOT NULL REFERENCES posts (id));
                        CREATE TABLE posts_long (post_ptr_id INTEGER PRIMARY KEY REFERENCES posts (id), mood TEXT)""")
                    for n in range(1, 7):
                        db.execute("INSERT INTO posts VALUES (?, ?, 'A', 'a', 3, '2026-01-01 10:00:00')",
                                   (n, writer))
                    db.execute("INSERT INTO posts_related VALUES (1, 1, 2)")
                    db.execute("INSERT INTO posts_long VALUES (3, 'good')")
                database = SqliteDatabase(Path(folder) / "site.db", readonly=True)
                tables = database.tables()
                found = learn(database, tables, complete(profile, tables))
                database.close()
                self.assertEqual({*found.visitors} & theirs, wanted)

    def test_names(self) -> None:
        for column, table, owner, least in (
                ("order_id", "shop_orders", "shop_lines", 0.95), ("orderId", "orders", "lines", 1.0),
                ("fk_category", "categories", "x", 1.0), ("idBox", "boxes", "x", 1.0),
                ("billing_address_id", "addresses", "x", 0.8), ("ext_order", "ext_shop_orders", "x", 0.85)):
            self.assertGreaterEqual(words.likeness(column, table, owner), least, (column, table))
        for column, table in (("price", "prices_log"), ("border_id", "orders"), ("name", "names_of_rivers")):
            self.assertLess(words.likeness(column, table), 0.8, (column, table))
        for name, measure in (("quantity", True), ("menu_order", True), ("columns", True), ("column", False),
                              ("page", False), ("order_id", False), ("yearOfBirth", True), ("status", True)):
            self.assertEqual(words.says_measure(name), measure, name)

        for many, one in (("statuses", "status"), ("aliases", "alias"), ("houses", "house"), ("cookies", "cookie"),
                          ("categories", "category"), ("addresses", "address"), ("databases", "database")):
            self.assertEqual(one, words.singular(many))

    def test_places_are_written_as_they_are_read(self) -> None:
        for place in (Place("a", "b"), Place("a", "b", (("key", "_x"),)), Place("a", "b", (), ("*", "page")),
                      Place("a", "b", (("k", "v"),), ("@id",))):
            self.assertEqual(Place.parse(str(place)), place)
        for text in ("a", "a.b[c", ".b", "a."):
            with self.assertRaises(ValueError):
                Place.parse(text)

    def test_what_names_its_owner_by_a_type_and_a_number(self) -> None:
        sql = """CREATE TABLE app_page (id INTEGER PRIMARY KEY AUTOINCREMENT, title TEXT);
            CREATE TABLE app_note (id INTEGER PRIMARY KEY AUTOINCREMENT, title TEXT);
            CREATE TABLE kinds (id INTEGER PRIMARY KEY AUTOINCREMENT, app TEXT, model TEXT);
            CREATE TABLE remarks (id INTEGER PRIMARY KEY AUTOINCREMENT, object_type TEXT, object_id INTEGER, body TEXT);
            CREATE TABLE marks (id INTEGER PRIMARY KEY AUTOINCREMENT, kind_id INTEGER REFERENCES kinds(id),
                                object_id INTEGER);
            INSERT INTO kinds (app, model) VALUES ('app', 'page'), ('app', 'note');"""
        with tempfile.TemporaryDirectory() as folder:
            path = Path(folder) / "site.db"
            with sqlite3.connect(path) as db:
                db.executescript(sql)
                for n in range(1, 21):
                    db.execute("INSERT INTO app_page (title) VALUES ('p')")
                    db.execute("INSERT INTO remarks (object_type, object_id) VALUES (?, ?)",
                               ("page" if n % 2 else "App\\Models\\Note", n % 6 + 1))
                    db.execute("INSERT INTO marks (kind_id, object_id) VALUES (?, ?)", (n % 2 + 1, n % 6 + 1))
                db.executemany("INSERT INTO app_note (title) VALUES (?)", ["n"] * 7)
            database = SqliteDatabase(path, readonly=True)
            tables = database.tables()
            found = learn(database, tables, complete(NO_PROFILE, tables))
            database.close()
        sure = {str(f.place): f.to for f in found.findings if f.certainty is Certainty.SURE}
        self.assertEqual(sure, {
            "remarks.object_id[object_type=page]": "app_page",
            "remarks.object_id[object_type=App\\Models\\Note]": "app_note",
            "marks.object_id[kind_id=1]": "app_page", "marks.object_id[kind_id=2]": "app_note"})
