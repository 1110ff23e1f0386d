"""Pages for others to read: whatever a site holds is text there, and nothing else is loaded or run."""

import re
import unittest

from bs4 import BeautifulSoup

from nostos.demo.seed import make
from nostos.demo.story import LIVE_URL, STAGING_URL, Story
from nostos.show.html import anchor_of
from nostos.show.plain_markup import all_plain, made_plain
from tests.support import Program, SiteTest

HOSTILE = ('<script>alert(1)</script>', '"><img src=x onerror=alert(1)>', "</style><style>*{display:none}</style>",
           "</details></main>{{ 7*7 }}{% x %}", "javascript:alert(1)", "\u202eeman", "<!--", "]]>")


class PlainMarkup(unittest.TestCase):
    def test_what_a_reader_sees(self) -> None:
        self.assertEqual("Up, by the mill & on\n- one\n- [picture: The dome] two", made_plain(
            "<!-- x --><p class='a>b'>Up, <b>by</b> the <a href='/mill'>mill</a> &amp; on</p><script>go()</script>"
            "<ul><li>one</li><li><img src='d.png' alt='The dome'>two</li></ul>"))
        for plain in ("1 < 2 and 3 > 2", "a <- b", "<hr>"):
            self.assertEqual(plain, made_plain(plain))
        self.assertEqual(["a", "b"], all_plain(["<p>a</p>", "<p>b</p>"]))
        self.assertEqual(["<p>a</p>", "<b>a</b>"], all_plain(["<p>a</p>", "<b>a</b>"]))  # nothing else tells them apart


class Reports(SiteTest):
    def setUp(self) -> None:
        super().setUp()
        self.run_it = Program(self.folder)
        make(self.folder / "live", LIVE_URL)
        done = self.run_it("clone", "live", "autumn", "--into", "staging", "--url", STAGING_URL)
        self.assertEqual(done.returncode, 0, done.stderr)
        self.story = Story(self.folder)
        self.story.work_on_staging()
        self.story.life_on_live()

    def page(self, name: str) -> BeautifulSoup:
        path = self.folder / name
        self.assertEqual(path.stat().st_mode & 0o777, 0o600)
        soup = BeautifulSoup(path.read_text(encoding="utf-8"), "html.parser")
        for tag in soup.find_all(True):
            for attribute, value in tag.attrs.items():
                self.assertFalse(attribute.startswith("on"), tag)
                if attribute in ("src", "href"):
                    self.assertRegex(str(value), r"^(#i[0-9a-f]{16}|#g\d+|data:image/(png|svg\+xml);base64,)", tag)
        self.assertEqual((len(soup.find_all("script")), len(soup.find_all("style"))), (1, 1))
        self.assertIn("default-src 'none'", str(soup.find("meta", attrs={"http-equiv": True})))
        return soup

    def test_a_comparison(self) -> None:
        site = self.story.staging
        for number, text in enumerate(HOSTILE):
            site.add("page", f"hostile-{number}", text, text)
            site.set(f"odd{number}{text}", {text: [text]})
        picture = site.folder / "uploads/evil.svg"
        picture.write_text('<svg xmlns="http://www.w3.org/2000/svg"><script>alert(1)</script></svg>')
        (site.folder / "uploads/broken.png").write_bytes(b"\x89PNG\r\n\x1a\nnonsense")
        done = self.run_it("compare", "autumn", "--html", "all.html")
        self.assertEqual(done.returncode, 1, done.stderr)
        soup = self.page("all.html")
        entries = {(e.select_one(".name") or e.select_one(".title")).get_text(): e  # type: ignore[union-attr]
                   for e in soup.select(".entry")}
        self.assertEqual({str(e["data-standing"]) for e in entries.values()}, {"homeward", "blended", "clash", "kept"})
        self.assertIn(HOSTILE[0], entries["page/hostile-0"].get_text())
        self.assertIn("{{ 7*7 }}", entries["page/hostile-3"].get_text())
        # needs are links to what is on the page
        link = entries["page/autumn-programme"].find("a")
        assert link is not None
        self.assertIsNotNone(soup.find(id=str(link["href"])[1:]))
        gone, come = (" ".join(t.get_text() for t in entries["page/programme"].find_all(tag)) for tag in ("del", "ins"))
        self.assertTrue("eleven" in gone and "midnight" in come and "red lamp" in come)

    def test_a_merge_with_its_ledger(self) -> None:
        done = self.run_it("merge", "autumn", "--dry-run", "--html", "plan.html")
        self.assertEqual(done.returncode, 1, done.stderr)
        self.assertIn("what a merge would do", self.page("plan.html").get_text())
        (self.folder / "home/settings.toml").write_text("[keep]\ndays = 'many'\n")
        done = self.run_it("merge", "autumn", "--yes", "--html", "merge.html")
        self.assertEqual(done.returncode, 1, done.stderr)  # trouble with old journals is none of the merge's
        self.assertIn("no number of days", done.stderr)
        text = self.page("merge.html").get_text(" ")
        self.assertTrue(re.search(r"order\s+9\s+0\s+0\s+[0-9a-f]+\s+[0-9a-f]+\s+equal", text),
                        text[text.find("Ledger"):][:300])
        self.assertIn("Clashes left", text)
        chart = self.page("merge.html").find(id=anchor_of("extension/star-chart"))
        assert chart is not None
        self.assertEqual({str(w.get_text()) for w in chart.find_all(class_="who")},  # type: ignore[union-attr]
                         {"staging", "staging added"})
        self.run_it("undo", "autumn", "--yes")
        done = self.run_it("merge", "autumn", "--take", "setting/theme", "--yes", "--html", "nowhere/at/all.html")
        self.assertIn("The merge is done. Its report is not: The report", done.stderr)
        self.assertEqual((done.returncode, self.story.live.setting("theme")), (1, "dusk"))
        done = self.run_it("compare", "autumn", "--html", "nowhere/at/all.html")
        self.assertEqual(done.returncode, 3)
        self.assertIn("cannot be written", done.stderr)
