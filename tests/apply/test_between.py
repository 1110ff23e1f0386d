"""Laws 9 and 12, generated: whatever live does before the list, and between the list and its carrying out, is as live
left it; no reference of live's leads nowhere; no two things have one name. A merge and an undo hold that, or refuse."""

from __future__ import annotations

import random
import unittest
from collections.abc import Callable
from contextlib import suppress

from nostos.core.apply.merge import merge
from nostos.core.errors import NostosError
from nostos.core.takeback.undo import prepare_undo, to_take_back
from tests.apply.test_live_differs import SmallTest
from tests.small import ENGINES, Small

SCHEMA = (
    "CREATE TABLE category (id {key}, name VARCHAR(40) NOT NULL)",
    "CREATE TABLE page (id {key}, slug VARCHAR(40) NOT NULL, title VARCHAR(40) NOT NULL, body VARCHAR(90), "
    "category_id INTEGER NOT NULL)",
    "CREATE INDEX page_slug ON page (slug)", "CREATE INDEX page_category ON page (category_id)",
    "CREATE TABLE booking (id {key}, guest VARCHAR(40) NOT NULL, seats INTEGER NOT NULL, state VARCHAR(20) NOT NULL)",
    "INSERT INTO category (name) VALUES ('a'), ('b'), ('c'), ('d')",
    "INSERT INTO page (slug, title, body, category_id) VALUES ('p1','P1','x',1), ('p2','P2','y',2), ('p3','P3','z',3), "
    "('p4','P4','x',4), ('p5','P5','y',2), ('p6','P6','z',1)",
    "INSERT INTO booking (guest, seats, state) VALUES ('Ada',2,'open'), ('Bo',1,'open'), ('Cy',4,'open')")
SITE = 'editors = ["page", "category"]\nvisitors = ["booking"]\n[unique]\ncolumns = ["page.slug"]\n'
EMPTY = {"sqlite": "DELETE FROM booking", "mariadb": "TRUNCATE booking",
         "postgresql": "TRUNCATE booking RESTART IDENTITY"}
SEEDS = {"sqlite": range(6), "mariadb": range(4), "postgresql": range(3)}
LOOSE = range(2, 4)  # of MariaDB's seeds: of tables that no transaction covers
_ROUNDS = 8


class Side:
    """One side's code at work. written: what it wrote in this round, and must stay: titles by page, rows by guest."""

    def __init__(self, small: Small, side: str, chance: random.Random) -> None:
        self.small, self.side, self.chance = small, side, chance
        self.titles: dict[int, str] = {}
        self.guests: dict[str, tuple[int, str]] = {}

    def sql(self, statement: str) -> list[tuple[object, ...]]:
        return self.small.sql(self.side, statement)

    def _some(self, table: str) -> int | None:
        found = [int(str(n)) for (n,) in self.sql(f"SELECT id FROM {table} ORDER BY id")]
        return self.chance.choice(found) if found else None

    def _word(self) -> str:
        return f"{self.side[0]}{self.chance.randrange(10 ** 6)}"

    def edit(self) -> None:
        page = self._some("page")
        if page is not None:
            self.titles[page] = self._word()
            self.sql(f"UPDATE page SET title='{self.titles[page]}' WHERE id={page}")

    def add(self) -> None:
        slug, category = f"slug-{self.chance.randrange(6)}", self._some("category")
        if category is not None and not self.sql(f"SELECT 1 FROM page WHERE slug='{slug}'"):
            self.sql(f"INSERT INTO page (slug, title, body, category_id) VALUES ('{slug}', '{self._word()}', 'n', "
                     f"{category})")

    def remove(self) -> None:
        page = self._some("page")
        self.titles.pop(page or 0, None)
        self.sql(f"DELETE FROM page WHERE id={page or 0}")

    def remove_category(self) -> None:
        """With its pages, as the site's code does."""
        category = self._some("category") or 0
        for (page,) in self.sql(f"SELECT id FROM page WHERE category_id={category}"):
            self.titles.pop(int(str(page)), None)
        self.sql(f"DELETE FROM page WHERE category_id={category}")
        self.sql(f"DELETE FROM category WHERE id={category}")

    def add_category(self) -> None:
        self.sql(f"INSERT INTO category (name) VALUES ('{self._word()}')")

    def book(self) -> None:
        guest, seats = self._word(), self.chance.randrange(1, 9)
        self.guests[guest] = (seats, "open")
        self.sql(f"INSERT INTO booking (guest, seats, state) VALUES ('{guest}', {seats}, 'open')")

    def cancel(self) -> None:
        booking = self._some("booking") or 0
        self.sql(f"UPDATE booking SET state='cancelled' WHERE id={booking}")
        for (guest,) in self.sql(f"SELECT guest FROM booking WHERE id={booking}"):
            if str(guest) in self.guests:
                self.guests[str(guest)] = (self.guests[str(guest)][0], "cancelled")

    def begin_anew(self) -> None:
        """The season is over: keys are given out again."""
        self.sql(EMPTY[self.small.engine])
        self.guests.clear()
        for _ in range(self.chance.randrange(4)):
            self.book()


    def replace(self) -> None:
        """A row is taken out and another put in under its key at once, as REPLACE does."""
        booking = self._some("booking")
        if booking is not None:
            for (guest,) in self.sql(f"SELECT guest FROM booking WHERE id={booking}"):
                self.guests.pop(str(guest), None)
            guest, seats = self._word(), self.chance.randrange(1, 9)
            self.guests[guest] = (seats, "open")
            into = f"INTO booking (id, guest, seats, state) VALUES ({booking}, '{guest}', {seats}, 'open')"
            if self.small.engine == "postgresql":
                self.sql(f"DELETE FROM booking WHERE id={booking}; INSERT {into}")
            else:
                self.sql(f"REPLACE {into}")

    def bring_in(self) -> None:
        """An import writes keys itself, with a gap; the counter follows."""
        top = max([int(str(n)) for (n,) in self.sql("SELECT id FROM booking")] or [0]) + self.chance.randrange(1, 4)
        guest = self._word()
        self.guests[guest] = (3, "open")
        self.sql(f"INSERT INTO booking (id, guest, seats, state) VALUES ({top}, '{guest}', 3, 'open')")
        self._count_on()

    def forget(self) -> None:
        """The newest row goes, and a restart has the counter forget it: the next one gets its key."""
        for (newest,) in self.sql("SELECT max(id) FROM booking"):
            for (guest,) in self.sql(f"SELECT guest FROM booking WHERE id={newest or 0}"):
                self.guests.pop(str(guest), None)
            self.sql(f"DELETE FROM booking WHERE id={newest or 0}")
        self._count_on()
        self.book()

    def _count_on(self) -> None:
        """The counter stands where the newest row is."""
        if self.small.engine == "mariadb":
            self.sql("ALTER TABLE booking AUTO_INCREMENT = 1")
        elif self.small.engine == "postgresql":
            self.sql("SELECT setval('booking_id_seq', coalesce(max(id), 0) + 1, false) FROM booking")

    def change_places(self) -> None:
        """Two pages exchange a name of which the system itself lets no two be alike."""
        found = self.sql("SELECT id, slug FROM page ORDER BY id")
        if len(found) > 1:
            (one, a), (other, b) = self.chance.sample(found, 2)
            self.sql(f"UPDATE page SET slug = CASE id WHEN {one} THEN '{b}' ELSE '{a}' END "
                     f"WHERE id IN ({one}, {other})")


Act = Callable[[Side], None]
LIVE: tuple[Act, ...] = (Side.edit, Side.add, Side.remove, Side.remove_category, Side.add_category, Side.book,
                         Side.begin_anew, Side.cancel, Side.replace, Side.bring_in, Side.forget, Side.change_places)
MEANWHILE: tuple[Act, ...] = (Side.edit, Side.remove_category, Side.remove_category, Side.begin_anew, Side.begin_anew,
                              Side.cancel, Side.replace, Side.bring_in, Side.forget, Side.change_places)
STAGING: tuple[Act, ...] = (Side.edit, Side.add, Side.add, Side.remove, Side.cancel, Side.cancel,
                            Side.change_places)


class Between(SmallTest):
    def test_what_live_does_meanwhile_is_as_it_left_it(self) -> None:
        for engine in ENGINES:
            for seed in SEEDS[engine]:
                self.season(engine, seed)

    def season(self, engine: str, seed: int) -> None:
        """Some rounds of work on both sides, each with a merge, and now and then an undo."""
        chance = random.Random(f"{engine} {seed}")
        loose = " ENGINE=MyISAM" if engine == "mariadb" and seed in LOOSE else ""
        s = self.small(engine, [step + loose * step.startswith("CREATE TABLE") for step in SCHEMA], SITE)
        merged = 0
        for number in range(_ROUNDS):
            live, staging, told = Side(s, "live", chance), Side(s, "staging", chance), []

            def act(side: Side, what: tuple[Act, ...], most: int, told: list[str] = told) -> None:
                for one in chance.choices(what, k=chance.randrange(most + 1)):
                    told.append(f"{side.side}.{one.__name__}")
                    one(side)

            act(staging, STAGING, 4)
            act(live, LIVE, 3)
            with suppress(NostosError):
                s.merge("*", between=lambda: act(live, MEANWHILE, 2))  # noqa: B023
                merged += 1
            with self.subTest(engine, seed=seed, number=number, told=told):
                self.check(s, live)
            if chance.random() < 0.3:
                live = Side(s, "live", chance)
                act(live, LIVE, 3)
                with suppress(NostosError), s.crew() as crew:
                    ready = prepare_undo(s.home, crew, to_take_back(s.home, "trip", None))
                    act(live, MEANWHILE, 2)
                    merge(s.home, crew, ready)
                with self.subTest(engine, seed=seed, number=number, told=told, undone=True):
                    self.check(s, live)
        self.assertGreater(merged, _ROUNDS // 3)

    def check(self, s: Small, live: Side) -> None:
        titles = {int(str(n)): title for n, title in s.sql("live", "SELECT id, title FROM page")}
        self.assertEqual({n: titles.get(n) for n in live.titles}, live.titles)
        guests = {guest: (seats, state) for guest, seats, state in s.sql(
            "live", "SELECT guest, seats, state FROM booking")}
        self.assertEqual({g: guests.get(g) for g in live.guests}, live.guests)
        self.assertEqual(s.sql("live", "SELECT id FROM page WHERE category_id NOT IN (SELECT id FROM category)"), [])
        self.assertEqual(s.sql("live", "SELECT slug FROM page GROUP BY slug HAVING count(*) > 1"), [])


if __name__ == "__main__":
    unittest.main()
