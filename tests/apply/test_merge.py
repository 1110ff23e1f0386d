"""Merging on the stand-in site: what has to be right, each on its own."""

from typing import Any
from unittest.mock import patch

from nostos.core.apply import merge as merging
from nostos.core.apply.merge import merge
from nostos.core.apply.rows.changed import RowChange
from nostos.core.apply.rows.write import CommitResult, RowWork, apply_rows
from nostos.core.errors import MergeRefused, SelectionError, TargetMoved
from nostos.core.plan.prepared import prepare
from nostos.core.plan.selection import Choice
from nostos.demo.story import Story
from tests.support import LIVE_URL, Harbour, SiteTest, contents, dangling, rows, state


class Merging(SiteTest):
    def test_ids_given_out_twice(self) -> None:
        """Staging's page and live's order have one id; everything that belongs to the page follows it home."""
        h = self.harbour()
        staging, live = h.staging, h.live
        parent = staging.add("page", "evenings", "Evenings")
        picture = staging.add_picture("new", "New", "<svg/>\n")
        term = staging.add_term("season", "autumn", "Autumn")
        page = staging.add("page", "talks", "Talks", parent_id=parent, fields={"picture": picture}, terms=[term])
        link = f'<a data-content="{page}" href="{staging.address}/talks">'
        staging.edit(page, body=staging.picture_tag(picture) + link)
        menu = staging.setting("menu.main")
        menu["entries"].append({"label": "Talks", "content": page})
        staging.set("menu.main", menu)
        orders = [live.order(f"kr-{n}", "A Visitor", [(13, 1, 900)]) for n in range(6)]
        self.assertIn(page, orders)
        before = contents(live.database)

        result = h.merge("menu/main")

        home = live.find("page", "talks")
        above = live.find("page", "evenings")
        shown = live.find("picture", "new")
        self.assertNotIn(home["id"], orders)
        self.assertEqual(home["parent_id"], above["id"])
        self.assertEqual(home["body"], f'<figure data-picture="{shown["id"]}"><img src="{LIVE_URL}/uploads/2026/new.'
                         f'svg" alt=""></figure><a data-content="{home["id"]}" href="{LIVE_URL}/talks">')
        self.assertEqual(rows(live.database, "SELECT value FROM content_fields WHERE content_id=?", home["id"]),
                         [(str(shown["id"]),)])
        self.assertEqual(rows(live.database, "SELECT slug, uses FROM terms JOIN term_links ON term_id=id "
                                             "WHERE content_id=?", home["id"]), [("autumn", 1)])
        self.assertEqual(live.setting("menu.main")["entries"][-1]["content"], home["id"])
        self.assertTrue((live.folder / "uploads/2026/new.svg").is_file())
        after = contents(live.database)
        for table in ("comments", "order_lines", "members"):
            self.assertEqual(before[table], after[table])
        self.assertLessEqual(set(before["content"]), set(after["content"]))
        self.assertEqual({line.kind: line.gained for line in result.ledger}, {"order": 6})
        self.assertEqual(dangling(live.database), [])

    def test_work_goes_on_after_a_merge(self) -> None:
        """New children of a renumbered page find it; edits on both sides of what went home still merge."""
        h = self.harbour()
        page = h.staging.add("page", "evenings", "Evenings", "<p>one</p>\n\n<p>two</p>\n")
        h.live.order("kr-1", "A Visitor", [(13, 1, 900)])
        h.merge()
        self.assertEqual(h.homeward(), [])
        h.staging.add("page", "talks", "Talks", parent_id=page)
        home = h.live.find("page", "evenings")
        h.live.edit(home["id"], body=home["body"].replace("two", "zwei"))
        h.live.add("page", "live-child", "Below", parent_id=home["id"])
        h.staging.edit(page, title="Long evenings")
        self.assertEqual(h.homeward(), ["page/evenings", "page/talks"])
        h.merge()
        after = h.live.find("page", "evenings")
        self.assertEqual((after["title"], after["body"]), ("Long evenings", "<p>one</p>\n\n<p>zwei</p>\n"))
        self.assertEqual(h.live.find("page", "talks")["parent_id"], home["id"])
        self.assertEqual(h.homeward(), [])

    def test_fields_of_one_page_from_both_sides(self) -> None:
        h = self.harbour()
        visit = h.live.find("page", "visit")["id"]
        h.staging.edit(visit, title="From staging")
        h.staging.set_field(visit, "hint", "staging")
        h.live.edit(visit, slug="find-us", body="<p>From live</p>")
        h.merge()
        page = h.live.find("page", "find-us")
        self.assertEqual((page["title"], page["body"]), ("From staging", "<p>From live</p>"))

    def test_a_clash_leaves_live_as_it_is(self) -> None:
        h = self.harbour()
        visit = h.live.find("page", "visit")["id"]
        h.staging.edit(visit, title="From staging", slug="staging-slug")
        h.live.edit(visit, title="From live")
        result = h.merge()
        self.assertEqual([i.id for i in result.clashes], ["page/staging-slug"])
        page = h.live.find("page", "staging-slug")
        self.assertEqual(page["title"], "From live")
        self.assertEqual(h.standings(), {"page/staging-slug": "clash"})

    def test_structures_and_sets_from_both_sides(self) -> None:
        h = self.harbour()
        for site, accent, footer, enabled in ((h.staging, "#111", "Clear skies.", "ticket-desk"),
                                              (h.live, "#f0b27a", "Live's own", "other")):
            site.set("theme.dusk", {**site.setting("theme.dusk"), "accent": accent, "footer": footer})
            site.set("extensions", [*site.setting("extensions"), enabled])
        h.merge()
        options = h.live.setting("theme.dusk")
        self.assertEqual((options["accent"], options["footer"]), ("#111", "Live's own"))
        self.assertEqual(h.live.setting("extensions"), ["night-log", "star-chart", "other", "ticket-desk"])

    def test_needs_and_what_forbids_them(self) -> None:
        h = self.harbour()
        parent = h.staging.add("page", "evenings", "Evenings")
        h.staging.add("page", "talks", "Talks", parent_id=parent)
        with h.crew() as crew:
            chosen = {c.item.id: c.because for c in prepare(crew, Choice(("page/talks",))).plan.selection.chosen}
            self.assertIsNone(chosen["page/talks"])
            because = chosen["page/evenings"]
            assert because is not None
            self.assertEqual((because.item, because.reason), ("page/talks", "its parent_id points at it"))
            with self.assertRaisesRegex(SelectionError, "page/talks needs page/evenings.*is to be left"):
                prepare(crew, Choice(("page/talks",), ("page/evenings",)))
            with self.assertRaises(SelectionError) as caught:
                prepare(crew, Choice(("page/talk",)))
            self.assertIn("page/talks", caught.exception.next_step)

    def test_removals_never_cascade(self) -> None:
        h = self.harbour()
        for slug in ("a-still-night", "saturn-at-its-best"):
            h.staging.remove(h.staging.find("note", slug)["id"])
        still = h.live.find("note", "a-still-night")["id"]
        h.live.comment(still, "Late Visitor", "Lovely")
        self.assertEqual(h.standings()["note/a-still-night"], "clash")
        h.merge()
        self.assertEqual(h.live.find("note", "a-still-night")["comment_count"], 2)
        self.assertIsNone(h.live.find("note", "saturn-at-its-best"))
        self.assertEqual(rows(h.live.database, "PRAGMA foreign_key_check"), [])

    def test_removed_below_a_new_reference(self) -> None:
        """Live links to, menus and shows what staging removed: no reference is broken."""
        h = self.harbour()
        winter = h.staging.find("page", "winter-closing")["id"]
        h.staging.remove(winter)
        h.live.set("menu.foot", {"entries": [{"label": "Winter", "content": winter}]})
        self.assertIn("built on it since: menu/foot", h.compare().items["page/winter-closing"].reason)

    def test_test_data_of_visitors_stays_unless_named(self) -> None:
        h = self.harbour()
        h.staging.order("kr-test", "Test Person", [(13, 1, 900)])
        h.staging.join("test", "Test Person")
        h.merge()
        self.assertIsNone(h.live.find("order", "kr-test"))
        h.merge("order/kr-test")
        self.assertEqual(len(rows(h.live.database, "SELECT 1 FROM order_lines WHERE order_id=?",
                                  h.live.find("order", "kr-test")["id"])), 1)
        self.assertEqual(h.standings(), {"member/test": "homeward"})

    def test_an_order_with_one_line_more_is_another_order(self) -> None:
        """Should a merge ever write a row below something that live alone gained, the ledger takes the merge back."""
        h = self.harbour()
        h.staging.add("page", "moon-night", "Moon Night")
        h.live.order("kr-77", "A Customer", [(13, 1, 900)])
        order = h.live.find("order", "kr-77")["id"]
        before = state(h.live.folder)

        def with_a_line(work: RowWork, *more: Any) -> CommitResult:
            done = apply_rows(work, *more)
            line = {"order_id": order, "product_id": 13, "quantity": 5, "cents": 1}
            key = work.target_db.insert(work.tables["order_lines"], line)
            done.changed.append(RowChange("order_lines", key, None, {**line, "id": key[0]}))
            return done

        with patch.object(merging, "apply_rows", with_a_line), self.assertRaisesRegex(MergeRefused, "ledger.*order"):
            h.merge()
        self.assertEqual(state(h.live.folder), before)
        h.merge()
        self.assertIsNotNone(h.live.find("page", "moon-night"))

    def test_guards_and_local_settings_never_go_home(self) -> None:
        h = self.harbour()
        h.staging.set("staging-mark", {"edited": True})
        h.staging.set("secret-key", "staging's own")
        with h.staging.database_open() as db:
            db.execute("DELETE FROM settings WHERE name='search-engines'")
        h.live.set("something", 1)  # live gives out the very id that the guard has in staging
        self.assertEqual(h.standings(), {"setting/something": "kept"})
        h.merge("*")
        self.assertEqual(h.live.setting("secret-key"), "3f9a-made-up")
        self.assertIsNone(h.live.setting("staging-mark"))
        self.assertTrue(h.live.setting("outgoing-mail"))

    def test_made_on_both_sides(self) -> None:
        """The same term, made on both sides under different ids, is one term; what links to it goes to live's."""
        h = self.harbour()
        h.live.add_term("season", "spring", "Spring")
        h.live.add_term("season", "autumn", "Autumn")
        term = h.staging.add_term("season", "autumn", "Autumn")
        h.staging.add("page", "evenings", "Evenings", terms=[term])
        h.merge()
        self.assertEqual(rows(h.live.database, "SELECT slug, uses FROM terms JOIN term_links ON term_id=id WHERE "
                              "content_id=?", h.live.find("page", "evenings")["id"]), [("autumn", 1)])
        self.assertEqual(h.homeward(), [])

    def test_a_setting_deleted_and_made_anew_is_the_same_setting(self) -> None:
        h = self.harbour()
        for site, value in ((h.staging, "New line"), (h.live, None)):
            with site.database_open() as db:
                db.execute("DELETE FROM settings WHERE name='tagline'")
            site.set("other", 1)
            site.set("tagline", value or "Open on clear evenings")
        self.assertEqual(h.standings()["setting/tagline"], "homeward")
        h.merge()
        self.assertEqual(h.live.setting("tagline"), "New line")
        self.assertEqual([i for i, s in h.standings().items() if s != "settled"], [])
        h.staging.set("tagline", "Newer")
        self.assertEqual(h.homeward(), ["setting/tagline"])

    def test_live_moves_between_looking_and_committing(self) -> None:
        h = self.harbour()
        programme = h.live.find("page", "programme")
        h.staging.edit(programme["id"], body=programme["body"].replace("Talks", "Long talks"))
        with h.crew() as crew:
            prepared = prepare(crew)
            h.live.edit(programme["id"], body=programme["body"].replace("coat", "warm coat"))
            result = merge(h.home, crew, prepared)
        self.assertEqual(result.tries, 2)
        body = h.live.find("page", "programme")["body"]
        self.assertIn("Long talks", body)
        self.assertIn("warm coat", body)

    def test_a_file_changes_between_staging_and_renaming(self) -> None:
        """Live's own edit in the middle of a merge is seen, and stays: of a plain file, of a file in a folder."""
        from unittest import mock

        from nostos.core.apply import merge as merging

        for path, item in (("robots.txt", "file/robots.txt"), ("themes/dusk/style.css", "theme/dusk")):
            with self.subTest(path):
                h = Harbour(self.folder / path.replace("/", "-"))
                (h.live_folder / "robots.txt").write_text("live\n")
                h.refresh()
                (h.staging_folder / path).write_text("staging's\n")
                real, edits = merging.apply_rows, iter(["live's own, just now\n"])

                def edited(*args: object) -> object:
                    for text in edits:  # noqa: B023 - used up in this very turn
                        (h.live_folder / path).write_text(text)  # noqa: B023
                    return real(*args)  # type: ignore[arg-type]  # noqa: B023

                with h.crew() as crew:
                    prepared = prepare(crew)
                    self.assertEqual([i.id for i in prepared.plan.selection.items], [item])
                    with mock.patch.object(merging, "apply_rows", edited), self.assertRaises(TargetMoved):
                        merge(h.home, crew, prepared)
                self.assertEqual((h.live_folder / path).read_text(), "live's own, just now\n")
                self.assertEqual(h.standings()[item], "clash")
                self.assertEqual(list(h.live_folder.rglob(".nostos-*")), [])

    def test_an_extension_switches_with_its_table_and_column(self) -> None:
        h = self.harbour()
        Story(self.folder).work_on_staging()
        with h.crew() as crew:
            chosen = {c.item.id for c in prepare(crew, Choice(("extension/star-chart",))).plan.selection.chosen}
        self.assertEqual(chosen, {"extension/star-chart", "table/ext_star_chart_marks",
                                  "column/content.star_chart_sky"})
        (h.live.folder / "extensions/star-chart/local.txt").write_text("live's own\n")
        h.merge("extension/star-chart")
        folder = h.live.folder / "extensions/star-chart"
        self.assertEqual(sorted(p.name for p in folder.iterdir()), ["legend.txt", "local.txt", "manifest.toml",
                                                                    "widget.html"])
        self.assertEqual(rows(h.live.database, "SELECT DISTINCT star_chart_sky FROM content"), [("clear",)])
        self.assertEqual(list((h.live.folder / "extensions").glob(".nostos*")), [])
        h.merge("ext_star_chart_marks/*")
        self.assertEqual(len(rows(h.live.database, "SELECT 1 FROM ext_star_chart_marks")), 4)

    def test_files(self) -> None:
        h = self.harbour()
        for site, text in ((h.staging, "s"), (h.live, "l")):
            (site.folder / f"{text}.txt").write_text(text)
            (site.folder / "both.txt").write_text(text)
            (site.folder / "same.txt").write_text("same")
        (h.staging.folder / "themes/dusk/layout.html").chmod(0o600)
        (h.staging.folder / "extensions/ticket-desk/widget.html").unlink()
        self.assertEqual(h.standings(), {
            "extension/ticket-desk": "homeward", "file/both.txt": "clash", "file/l.txt": "kept",
            "file/s.txt": "homeward", "file/same.txt": "settled", "theme/dusk": "homeward"})
        h.merge()
        self.assertEqual((h.live.folder / "both.txt").read_text(), "l")
        self.assertEqual((h.live.folder / "s.txt").read_text(), "s")
        self.assertEqual((h.live.folder / "themes/dusk/layout.html").stat().st_mode & 0o777, 0o600)
        self.assertFalse((h.live.folder / "extensions/ticket-desk/widget.html").exists())
        self.assertEqual(h.standings(), {"file/both.txt": "clash", "file/l.txt": "kept"})

    def test_two_voyages_of_one_live(self) -> None:
        one = self.harbour()
        two = Harbour(self.folder / "second", one.live_folder, "http://127.0.0.1:8433")
        one.staging.add("page", "first", "First")
        two.staging.add("page", "second", "Second")
        one.merge()
        self.assertEqual(two.standings(), {"page/first": "kept", "page/second": "homeward"})
        two.merge()
        self.assertTrue(one.live.find("page", "first") and one.live.find("page", "second"))
