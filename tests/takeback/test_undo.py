"""Taking a merge back: the identity, apart from what live did since (law 4)."""

from typing import Any

from nostos.core.apply.merge import MergeResult, merge
from nostos.core.errors import VoyageError
from nostos.core.takeback.undo import done, prepare_undo, to_take_back
from nostos.demo.story import Story
from tests.support import Harbour, SiteTest, contents, dangling, rows, state


def undo(h: Harbour, which: str | None = None) -> tuple[MergeResult, dict[str, str]]:
    """Take an operation back. Returns what was done, and what stayed with its reason."""
    with h.crew() as crew:
        prepared = prepare_undo(h.home, crew, to_take_back(h.home, "trip", which))
        stays = {i.id: i.reason or "clash" for i in prepared.comparison.items.values()
                 if i.reason or i.standing == "clash"}
        return merge(h.home, crew, prepared), stays


def data(h: Harbour) -> dict[str, Any]:
    """Live's rows without what comes with an extension's schema, which stays, and without derived times."""
    found = contents(h.live.database)
    found.pop("ext_star_chart_marks", None)
    return found


class Undo(SiteTest):
    def setUp(self) -> None:
        super().setUp()
        self.h = self.harbour()

    def work(self) -> None:
        """Staging's work, without the extension whose schema would stay."""
        site = self.h.staging
        picture = site.add_picture("new", "New", "<svg/>\n")
        page = site.add("page", "talks", "Talks", site.picture_tag(picture), fields={"picture": picture})
        programme = site.find("page", "programme")
        site.edit(programme["id"], body=programme["body"].replace("Talks", "Long talks"))
        menu = site.setting("menu.main")
        menu["entries"].append({"label": "Talks", "content": page})
        site.set("menu.main", menu)
        site.remove(site.find("page", "winter-closing")["id"])
        site.set("theme", "dusk")
        (site.folder / "themes/dusk/style.css").write_text("/* new */\n")
        (site.folder / "a/b").mkdir(parents=True)
        (site.folder / "a/b/file.txt").write_text("x\n")

    def test_it_is_the_identity(self) -> None:
        h = self.h
        self.work()
        before, due = state(h.live_folder), h.standings()
        h.merge()
        after = state(h.live_folder)
        self.assertFalse(before == after)
        _, stays = undo(h)
        self.assertEqual(stays, {})
        self.assertTrue(before == state(h.live_folder))
        self.assertFalse((h.live_folder / "a").exists())
        self.assertEqual(h.standings(), due)
        with self.assertRaisesRegex(VoyageError, "no merge to take back"):
            undo(h)
        # the undo taken back is the merge again, under the same ids
        last = done(h.home, "trip")[-1]
        self.assertEqual((last.verb, undo(h, last.id)[1]), ("undo", {}))
        self.assertTrue(after == state(h.live_folder))
        self.assertEqual(h.standings(), {})
        undo(h, to_take_back(h.home, "trip", None).id)
        self.assertTrue(before == state(h.live_folder))
        # and the work can be merged once more
        h.merge()
        self.assertEqual(h.standings(), {})
        self.assertEqual(dangling(h.live.database), [])

    def test_what_live_gained_since_stays(self) -> None:
        h = self.h
        self.work()
        h.merge()
        live = h.live
        talks = live.find("page", "talks")["id"]
        comment = live.comment(talks, "A Visitor", "I will come.")
        order = live.order("kr-since", "A Visitor", [(live.find("product", "evening-ticket")["id"], 1, 900)])
        programme = live.find("page", "programme")
        live.edit(programme["id"], body=programme["body"].replace("coat", "warm coat"))
        live.set("theme.dusk", {**live.setting("theme.dusk"), "footer": "Hello"})
        (live.folder / "themes/dusk/style.css").write_text("/* live's own */\n")
        result, stays = undo(h)
        self.assertTrue(all(line.holds for line in result.ledger))
        self.assertIn("live has built on it since: comment/", stays["page/talks"])
        self.assertEqual(stays["theme/dusk"], "clash")
        self.assertEqual(live.find("page", "talks")["id"], talks)
        self.assertEqual(rows(live.database, "SELECT content_id FROM comments WHERE id=?", comment), [(talks,)])
        self.assertEqual(live.find("order", "kr-since")["id"], order)
        body = live.find("page", "programme")["body"]
        self.assertIn("warm coat", body)
        self.assertNotIn("Long talks", body)
        self.assertEqual(live.setting("theme.dusk")["footer"], "Hello")
        self.assertEqual(live.setting("theme"), "meadow")
        self.assertEqual(live.find("page", "winter-closing")["title"], "Closed in deep winter")
        self.assertEqual((live.folder / "themes/dusk/style.css").read_text(), "/* live's own */\n")
        self.assertEqual(dangling(live.database), [])

    def test_not_the_last_one(self) -> None:
        h = self.h
        first = h.staging.add("page", "first", "First")
        h.staging.set("tagline", "One")
        h.merge()
        h.staging.add("page", "second", "Second", parent_id=first)
        h.staging.edit(h.staging.find("page", "visit")["id"], title="Two")
        h.merge()
        merges = [d.id for d in done(h.home, "trip")]
        _, stays = undo(h, merges[0])
        self.assertEqual(stays["page/first"], "live has built on it since: page/second")
        self.assertEqual(h.live.setting("tagline"), "Open on clear evenings")
        self.assertEqual(h.live.find("page", "second")["parent_id"], h.live.find("page", "first")["id"])
        undo(h, merges[1])
        self.assertEqual(h.live.find("page", "visit")["title"], "How to find us")
        self.assertEqual(dangling(h.live.database), [])
        self.assertEqual(sorted(h.homeward()), ["page/second", "page/visit", "setting/tagline"])
        with self.assertRaisesRegex(VoyageError, "was taken back already"):
            undo(h, merges[1])
        with self.assertRaisesRegex(VoyageError, "no merge x"):
            undo(h, "x")

    def test_the_whole_story(self) -> None:
        h = self.h
        story = Story(self.folder)
        story.work_on_staging()
        story.life_on_live()
        before = data(h)
        h.merge()
        undo(h)
        after = data(h)
        # The column that came with the extension stays, with its default.
        after["content"] = [row[:-1] for row in after["content"]]
        self.assertTrue(before == after)
        h.merge()
        self.assertEqual(dangling(h.live.database), [])
