"""Deciding clashes, selections as files, and lists and files that merge."""

import time
import tomllib

from nostos.core.apply.merge import merge
from nostos.core.clock import now
from nostos.core.compare.field_merge import merge_lists
from nostos.core.errors import SelectionError
from nostos.core.plan.prepared import prepare
from nostos.core.plan.selection import Choice
from nostos.core.plan.selection_file import read, with_voyage, write
from nostos.core.values.merging import merge_text
from nostos.demo.story import Story
from tests.support import Harbour, SiteTest, rows, state


class Lists(SiteTest):
    def test_entries_that_both_sides_added_keep_their_places(self) -> None:
        a, b, c, x, y = ({"label": n, "content": i} for i, n in enumerate("abcxy"))
        edited, moved = {**b, "label": "B"}, {**b, "content": 9}
        for base, live, staging, merged in (
                ([a, b, c], [a, x, b, c], [a, b, y, c], [a, x, b, y, c]),
                ([a, b], [a, b, x], [a, b, y], [a, b, x, y]),
                ([a, b, c], [a, c], [a, b, c, y], [a, c, y]),
                ([a, b], [a, edited], [a, moved], [a, {"label": "B", "content": 9}]),
                ([a, b], [a, edited, x], [a, moved, y], [a, {"label": "B", "content": 9}, x, y]),
                ([a], [a, x], [a, x], [a, x]),
                ([a, b], [a, edited], [a, {**b, "label": "other"}], None),
                ([a, b], [a], [a, edited], None),
                ([1, 2], [1, 2, True], [1, 2, 1.0], [1, 2, True, 1.0])):
            self.assertTrue(merge_lists(base, live, staging) == merged, (live, staging))

    def test_lines_and_paragraphs(self) -> None:
        self.assertEqual(merge_text("a\nb\nc\n", "A\nb\nc\n", "a\nb\nC\n", lines=True), "A\nb\nC\n")
        self.assertIsNone(merge_text("a\nb\n", "x\nb\n", "y\nb\n", lines=True))
        self.assertEqual(merge_text("a\n\nb", "a\n\nb\n\nc", "A\n\nb"), "A\n\nb\n\nc")


class Deciding(SiteTest):
    def setUp(self) -> None:
        super().setUp()
        self.h = self.harbour()
        self.page = self.h.live.find("page", "visit")["id"]

    def clash(self) -> None:
        self.h.staging.edit(self.page, title="Staging's", body="<p>s</p>")
        time.sleep(0.002)  # times of change are told to the millisecond, and are to be two
        self.h.live.edit(self.page, title="Live's", body="<p>l</p>")

    def prefer(self, *decisions: tuple[str, str, str], take: tuple[str, ...] = ()) -> None:
        from nostos.core.anchor.names import Side
        from nostos.core.plan.decisions import Decision

        with self.h.crew() as crew:
            made = tuple(Decision(item, Side(side), field) for side, item, field in decisions)
            merge(self.h.home, crew, prepare(crew, Choice(take, prefer=made)))

    def title_and_body(self) -> tuple[str, str]:
        found = self.h.live.find("page", "visit")
        return found["title"], found["body"]

    def test_each_side_may_win_and_the_clash_is_gone(self) -> None:
        for side, expected in (("staging", ("Staging's", "<p>s</p>")), ("live", ("Live's", "<p>l</p>"))):
            with self.subTest(side):
                h = self.h = Harbour(self.folder / side)
                self.clash()
                self.assertEqual(h.standings()["page/visit"], "clash")
                self.prefer((side, "page/visit", ""))
                self.assertEqual(self.title_and_body(), expected)
                # Decided for staging, only the time of live's change is live's own.
                self.assertEqual(h.standings(), {"page/visit": "settled" if side == "staging" else "kept"})
                h.staging.edit(self.page, title="Later")
                self.assertEqual(h.standings(), {"page/visit": "homeward" if side == "staging" else "clash"})

    def test_one_field_at_a_time(self) -> None:
        self.clash()
        self.prefer(("staging", "page/visit", "title"), ("live", "page/visit", "body"))
        self.assertEqual(self.title_and_body(), ("Staging's", "<p>l</p>"))
        self.assertEqual(self.h.standings()["page/visit"], "kept")

    def test_what_live_removed_comes_back_or_stays_away(self) -> None:
        for side in ("staging", "live"):
            with self.subTest(side):
                h = self.h = Harbour(self.folder / side)
                page = h.live.add("page", "fresh", "Fresh", "<p>x</p>", fields={"season": "spring"})
                with h.crew() as crew:
                    from nostos.core.anchor.names import Side

                    merge(h.home, crew, prepare(crew, toward=Side.STAGING))
                h.staging.edit(h.staging.find("page", "fresh")["id"], title="Worked on")
                h.live.remove(page)
                self.assertEqual(h.standings(), {"page/fresh": "clash"})
                self.prefer((side, "page/fresh", ""))
                self.assertEqual(h.standings(), {})
                found = rows(h.live.database, "SELECT c.title, f.value FROM content c JOIN content_fields f "
                                              "ON f.content_id = c.id WHERE slug='fresh'")
                self.assertEqual(found, [("Worked on", "spring")] if side == "staging" else [])

    def test_what_staging_removed_goes_or_stays(self) -> None:
        for side in ("staging", "live"):
            with self.subTest(side):
                h = self.h = Harbour(self.folder / side)
                page = h.live.find("page", "winter-closing")["id"]
                h.staging.remove(page)
                h.live.edit(page, title="Still needed")
                self.assertEqual(h.standings(), {"page/winter-closing": "clash"})
                self.prefer((side, "page/winter-closing", ""))
                there = rows(h.live.database, "SELECT title FROM content WHERE slug='winter-closing'")
                self.assertEqual(there, [] if side == "staging" else [("Still needed",)])
                self.assertEqual(h.standings(), {})

    def test_it_never_cascades(self) -> None:
        note = self.h.live.find("note", "a-still-night")["id"]
        self.h.live.edit(self.page, title="New")
        self.h.staging.remove(note)
        self.h.live.comment(note, "A Visitor", "Lovely.")
        before = state(self.h.live_folder)
        with self.assertRaisesRegex(SelectionError, "does not clash"):
            self.prefer(("staging", "page/visit", ""))
        with self.assertRaisesRegex(SelectionError, "a-still-night cannot be decided: .* live has built on it since"):
            self.prefer(("staging", "note/*", ""))
        self.assertTrue(before == state(self.h.live_folder))
        self.assertEqual(self.h.standings()["note/a-still-night"], "clash")

    def test_a_plain_file_and_its_lines(self) -> None:
        style = "themes/meadow/style.css"
        lines = (self.h.live_folder / style).read_text().splitlines(keepends=True)
        (self.h.staging_folder / style).write_text("".join(["/* staging */\n", *lines]))
        (self.h.live_folder / style).write_text("".join([*lines, "/* live */\n"]))
        self.assertEqual(self.h.standings(), {"theme/meadow": "blended"})
        self.h.merge()
        both = "".join(["/* staging */\n", *lines, "/* live */\n"])
        self.assertEqual((self.h.live_folder / style).read_text(), both)
        self.assertEqual(self.h.standings(), {"theme/meadow": "kept"})
        (self.h.staging_folder / style).write_text("".join(["/* again */\n", *lines]))
        (self.h.live_folder / style).write_text(both.replace("staging", "by live"))
        self.assertEqual(self.h.standings(), {"theme/meadow": "clash"})
        self.prefer(("staging", "theme/meadow", ""))
        self.assertTrue((self.h.live_folder / style).read_text().startswith("/* again */"))
        self.assertEqual(self.h.standings(), {})


class Together(SiteTest):
    def test_what_seems_to_belong_to_an_extension_is_told(self) -> None:
        h = self.harbour()
        Story(self.folder).work_on_staging()
        h.staging.set("star-chart.units", "degrees")
        with h.crew() as crew:
            def warned(*take: str) -> tuple[str, ...]:
                return prepare(crew, Choice(take)).plan.selection.warnings

            self.assertEqual(warned(), ())
            self.assertEqual(warned("extension/star-chart"), (
                "setting/star-chart.units seems to belong to extension/star-chart, and stays: take it too with --take "
                "setting/star-chart.units",))
            self.assertIn("table/ext_star_chart_marks seems to belong to extension/star-chart, which stays: take it "
                          "too with --take extension/star-chart", warned("table/*"))

    def test_rows_that_repeat_under_one_name_are_a_multiset(self) -> None:
        """Both sides added rows of one name to a page: those alike are one, the others stay beside each other."""
        h = self.harbour()
        page = h.live.find("page", "visit")["id"]
        for site, values in ((h.live, ("north", "north", "east")), (h.staging, ("north", "west", "east", "east"))):
            for value in values:
                rows(site.database, "INSERT INTO content_fields (content_id, name, value) VALUES (?, 'gate', ?)", page,
                     value)
        h.merge()
        found = rows(h.live.database, "SELECT value FROM content_fields WHERE name='gate' ORDER BY value")
        self.assertEqual([v for (v,) in found], ["east", "east", "north", "north", "west"])
        self.assertEqual(h.homeward(), [])


class Files(SiteTest):
    def setUp(self) -> None:
        super().setUp()
        self.h = self.harbour()
        self.path = self.folder / "sel.toml"
        visit = self.h.live.find("page", "visit")["id"]
        self.h.staging.edit(visit, title="Staging's")
        self.h.live.edit(visit, title="Live's")
        parent = self.h.staging.add("page", "evenings", 'The "long" evenings\n# x')
        self.h.staging.add("page", "talks", "Talks", parent_id=parent)
        self.h.staging.set("tagline", "Up here")

    def save(self, choice: Choice) -> None:
        with self.h.crew() as crew:
            write(self.path, crew.voyage, prepare(crew, choice), now())

    def load(self) -> Choice:
        with self.h.crew() as crew:
            prepared = prepare(crew, with_voyage(read(self.path), crew.voyage).choice)
            merge(self.h.home, crew, prepared)
            return prepared.made

    def test_what_is_written_is_what_goes_home(self) -> None:
        self.save(Choice(("page/talks",)))
        said = self.path.read_text()
        data = tomllib.loads(said)
        self.assertEqual((data["selection"]["take"], data["selection"]["leave"]),
                         (["page/evenings", "page/talks"], ["setting/tagline"]))
        self.assertIn("# page/talks needs it: its parent_id points at it", said)
        self.assertIn('# "page/visit" = "live"  # title', said)
        self.path.write_text(said.replace('# "page/visit" = "live"', '"page/visit" = "staging"'))
        self.assertEqual(self.load().notes, ())
        self.assertEqual(self.h.live.find("page", "visit")["title"], "Staging's")
        self.assertEqual(self.h.homeward(), ["setting/tagline"])
        self.assertIn("page/talks is the same on both sides now", self.load().notes)
        self.path.write_text(self.path.read_text().replace("page/talks", "page/taks"))  # in [seen], too
        with self.assertRaisesRegex(SelectionError, "There is no page/taks, on neither side"):
            self.load()

    def test_live_moved_on_since(self) -> None:
        from nostos.core.anchor.names import Side
        from nostos.core.plan.decisions import Decision

        self.save(Choice(("page/visit", "setting/tagline"), prefer=(Decision("page/visit", Side.STAGING, "title"),)))
        self.assertIn('"page/visit" = { "title" = "staging" }', self.path.read_text())
        self.h.live.edit(self.h.live.find("page", "visit")["id"], title="Live's, once more")
        with self.assertRaisesRegex(SelectionError, "page/visit was decided for staging, and has changed since"):
            self.load()
        self.path.write_text(self.path.read_text().replace('"page/visit" = {', '#').replace('"page/visit",', ""))
        self.h.live.set("tagline", "Down there")
        with self.assertRaisesRegex(SelectionError, "setting/tagline has become a clash"):
            self.load()

    def test_files_that_cannot_be_used(self) -> None:
        for text, said in (("x", "cannot be read"), ("[other]", "'selection' is missing"),
                           ("[selection]\ntake = 'all'", "not a list"),
                           ("[selection]\nvoyage = 'spring'", "was made for voyage spring"),
                           ("[selection]\n[decide]\na = 'mine'", "must be"),
                           ("[selection]\ntake = ['page/none']", "Nothing that changed is called page/none")):
            self.path.write_text(text)
            with self.subTest(text), self.assertRaisesRegex(SelectionError, said):
                self.load()
        self.path.write_text("[selection]\n")
        before = state(self.h.live_folder)
        self.load()
        self.assertTrue(before == state(self.h.live_folder))
