"""Refresh: a merge with the roles changed. And many voyages of one live."""

from nostos.core.anchor.names import Side
from nostos.core.anchor.open_voyage import opened
from nostos.core.apply.merge import merge
from nostos.core.clone.afresh import afresh
from nostos.core.clone.clone import clone
from nostos.core.plan.prepared import prepare
from nostos.demo.system import Observatory
from tests.support import STAGING_URL, SiteTest, contents, dangling, rows, state, tree


class Refresh(SiteTest):
    def setUp(self) -> None:
        super().setUp()
        self.h = self.lived_in()

    def test_lives_work_comes_and_stagings_stays(self) -> None:
        h = self.h
        before, homeward = state(h.live_folder), h.homeward()
        result = h.refresh()
        self.assertTrue(before == state(h.live_folder))
        self.assertTrue(result.ledger and all(line.holds for line in result.ledger))
        standings = h.standings()
        # What was said on a note that staging removed has no place there.
        self.assertEqual([n for n, s in standings.items() if s == "kept"], ["comment/4", "comment/5"])
        self.assertEqual([n for n, s in standings.items() if s == "clash"], ["note/a-still-night", "page/visit"])
        self.assertLessEqual(set(homeward), {*standings, "table/ext_star_chart_marks"})
        orders = "SELECT slug, title FROM content WHERE kind='order' AND slug NOT LIKE '%test%' ORDER BY slug"
        self.assertEqual(rows(h.staging.database, orders), rows(h.live.database, orders))
        lines = "SELECT o.slug, p.slug, l.quantity FROM order_lines l JOIN content o ON o.id=order_id " \
                "JOIN content p ON p.id=product_id WHERE o.slug NOT LIKE '%test%' ORDER BY 1, 2, 3"
        self.assertEqual(rows(h.staging.database, lines), rows(h.live.database, lines))
        body = h.staging.find("page", "programme")["body"]
        self.assertIn("a red lamp", body)
        self.assertIn("to midnight", body)
        self.assertEqual(dangling(h.staging.database), [])
        self.assertIs(h.staging.setting("outgoing-mail"), False)
        self.assertEqual(h.refresh().id, "")

    def test_merging_goes_on_after_it(self) -> None:
        h = self.h
        h.refresh()
        note = h.staging.find("note", "a-fireball-at-ten")["id"]
        h.staging.edit(note, title="A fireball at ten past ten")
        h.live.order("kr-after", "A Visitor", [(h.live.find("product", "evening-ticket")["id"], 1, 900)])
        h.merge()
        self.assertEqual(h.live.find("note", "a-fireball-at-ten")["title"], "A fireball at ten past ten")
        self.assertEqual(h.homeward(), ["comment/3", "order/kr-test-7f"])
        self.assertEqual(dangling(h.live.database), [])
        h.refresh()
        left = {n for n, s in h.standings().items() if s != "homeward"}
        self.assertEqual(left, {"page/visit", "note/a-still-night", "comment/4", "comment/5"})

    def test_only_what_is_asked_for(self) -> None:
        self.h.refresh("order/kr-fc5")
        kept = [n for n, s in self.h.standings().items() if s == "kept"]
        self.assertNotIn("order/kr-fc5", kept)
        self.assertIn("order/kr-fea", kept)

    def test_afresh(self) -> None:
        h = self.h
        with h.crew() as crew:
            voyage = crew.voyage
        done = afresh(h.home, voyage)
        self.assertEqual((done.voyage.name, done.voyage.url), ("trip", STAGING_URL))
        self.assertEqual(h.standings(), {})
        orders = "SELECT count(*) FROM content WHERE kind='order'"
        self.assertEqual(rows(h.staging.database, orders), rows(h.live.database, orders))


class Voyages(SiteTest):
    def test_a_merge_of_one_is_a_live_change_to_the_others(self) -> None:
        h = self.harbour()
        clone(h.home, h.live_folder, "other", self.folder / "other", "http://127.0.0.1:8433")
        other = Observatory(self.folder / "other")
        h.staging.add("page", "from-trip", "From the trip")
        mine = other.add("page", "from-other", "From the other")
        other.set_field(mine, "season", "spring")
        h.merge()
        with opened(h.home, h.home.read("other")) as crew:
            prepared = prepare(crew)
            self.assertEqual(prepared.comparison.items["page/from-trip"].standing, "kept")
            merge(h.home, crew, prepared)
            merge(h.home, crew, prepare(crew, toward=Side.STAGING))
            self.assertEqual(prepare(crew).comparison.items, {})
        self.assertEqual(h.standings(), {"page/from-other": "kept"})
        pages = "SELECT slug, title, replace(body, ':8433', ':8431') FROM content WHERE kind='page' ORDER BY slug"
        self.assertEqual(rows(other.database, pages), rows(h.live.database, pages))
        self.assertEqual(set(contents(h.live.database)), set(contents(other.database)))
        self.assertEqual({p for p in tree(h.live_folder) if "uploads" in p},
                         {p for p in tree(other.folder) if "uploads" in p})
