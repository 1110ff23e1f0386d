"""The page on which others choose, in a real browser: what is ticked there is what goes home."""

import json
import random
import shutil
import tempfile
import time
import tomllib
import unittest
from importlib import resources
from importlib.util import find_spec
from pathlib import Path
from typing import Any

from nostos.core.anchor.open_voyage import opened
from nostos.core.plan.prepared import prepare
from nostos.core.plan.selection_file import read
from tests.support import Program, SiteTest

MISSING = [n for n in ("chromium", "chromedriver") if shutil.which(n) is None]
MISSING += [n for n in ("selenium", "axe_core_python") if not find_spec(n)]


@unittest.skipIf(MISSING, f"not installed: {', '.join(MISSING)}")
class ChoosingPage(SiteTest):
    browser: Any

    @classmethod
    def setUpClass(cls) -> None:
        from selenium import webdriver

        cls.saved = Path(tempfile.mkdtemp(prefix="nostos-test-"))
        cls.addClassCleanup(shutil.rmtree, cls.saved, ignore_errors=True)
        options = webdriver.ChromeOptions()
        options.binary_location = str(shutil.which("chromium"))
        for word in ("--headless=new", "--no-sandbox", "--disable-dev-shm-usage", "--window-size=1280,800"):
            options.add_argument(word)
        options.add_experimental_option("prefs", {
            "download.default_directory": str(cls.saved),
            "profile.default_content_setting_values.automatic_downloads": 1})
        options.set_capability("goog:loggingPrefs", {"browser": "ALL"})
        cls.browser = webdriver.Chrome(options, webdriver.ChromeService(str(shutil.which("chromedriver"))))
        cls.addClassCleanup(cls.browser.quit)

    def setUp(self) -> None:
        super().setUp()
        self.h = self.lived_in()
        self.run_it = Program(self.folder)

    def open(self) -> None:
        done = self.run_it("compare", "trip", "--html", "page.html")
        self.assertIn(done.returncode, (0, 1), done.stderr)
        self.browser.get((self.folder / "page.html").as_uri())
        said = [e["message"] for e in self.browser.get_log("browser")]
        self.assertEqual([m for m in said if "beforeunload" not in m], [])

    def entry(self, name: str) -> Any:
        return next(e for e in self.browser.find_elements("css selector", ".entry[data-item]")
                    if e.get_attribute("data-item") == name)

    def script(self, text: str, *given: Any) -> Any:
        return self.browser.execute_script(text, *given)

    def tick(self, name: str) -> None:
        self.script("arguments[0].click()", self.entry(name).find_element("css selector", ".tick"))

    def decide(self, name: str, side: str) -> None:
        self.script("arguments[0].click()", self.entry(name).find_element("css selector", f'input[value="{side}"]'))

    def saved_file(self) -> Path:
        for old in self.saved.iterdir():
            old.unlink()
        self.script("document.getElementById('save').click()")
        for _ in range(100):
            found = list(self.saved.glob("*.toml"))
            if found:
                return found[0]
            time.sleep(0.1)
        raise AssertionError("nothing was saved")

    def test_tick_save_merge(self) -> None:
        self.open()
        self.script("document.getElementById('none').click()")
        self.assertIn("0 of", self.script("return document.getElementById('sum').textContent"))
        self.tick("page/autumn-programme")
        picture = self.entry("picture/autumn-sky")
        self.assertTrue(picture.find_element("css selector", ".tick").is_selected())
        self.assertIn("page/autumn-programme needs it", self.script(
            "return arguments[0].querySelector('.because').textContent", picture))
        self.decide("page/visit", "staging")
        self.script("document.getElementById('who').value = 'Ada \\u201cL\\u201d \\\\ <b>'; "
                    "arguments[0].querySelector('textarea').value = 'Looks\\n\"right\" to me'", picture)
        file = self.saved_file()
        self.assertEqual(read(file).remarks, {"picture/autumn-sky": 'Looks "right" to me'})
        done = self.run_it("merge", "trip", "--selection", str(file), "--yes")
        self.assertIn(done.returncode, (0, 1), done.stderr)
        standings = self.h.standings()
        for gone in ("page/autumn-programme", "picture/autumn-sky"):
            self.assertNotIn(gone, standings)
        titles = {site.find("page", "visit")["title"] for site in (self.h.live, self.h.staging)}
        self.assertEqual(len(titles), 1)
        self.assertIn("homeward", standings.values())  # what was not ticked stayed
        said = json.loads(self.run_it("--json", "history").stdout)
        self.assertEqual((said[-1]["chosen_by"], said[-1]["remarks"]), (
            "Ada “L” \\ <b>", {"picture/autumn-sky": 'Looks "right" to me'}))
        self.assertIn("chosen by Ada", self.run_it("history").stdout)
        self.open()  # a page of an older comparison: what has moved is told
        file.write_text(file.read_text().replace('voyage = "trip"', 'voyage = "other"'))
        done = self.run_it("merge", "trip", "--selection", str(file), "--yes")
        self.assertEqual(done.returncode, 3)
        self.assertIn("made for voyage other", done.stderr)

    def test_anyone_can_use_it(self) -> None:
        """On a desk and on a phone, in the light and in the dark: no fault that axe knows; things to tick are on the
        first screen, and the count and *Save* are in sight wherever one reads."""
        axe = (resources.files("axe_core_python") / "axe.min.js").read_text(encoding="utf-8")
        self.open()
        self.browser.execute_cdp_cmd("Page.setBypassCSP", {"enabled": True})
        for width, height in ((1280, 800), (390, 844)):
            for scheme in ("light", "dark"):
                with self.subTest(width=width, scheme=scheme):
                    self.browser.execute_cdp_cmd("Emulation.setDeviceMetricsOverride", {
                        "width": width, "height": height, "deviceScaleFactor": 1, "mobile": width < 500})
                    self.browser.execute_cdp_cmd("Emulation.setEmulatedMedia", {
                        "features": [{"name": "prefers-color-scheme", "value": scheme}]})
                    self.browser.get(self.browser.current_url.partition("#")[0])
                    first = self.script("return document.querySelector('.tick').getBoundingClientRect().bottom")
                    bar = self.script("return document.getElementById('bar').getBoundingClientRect().top")
                    self.assertLess(first, bar)
                    self.script("document.querySelectorAll('details').forEach(function (d) { d.open = true; });"
                                "document.querySelectorAll('.entry').forEach(function (e) {"
                                " e.style.contentVisibility = 'visible'; }); window.scrollTo(0, 900)")
                    save = self.script("return document.getElementById('save').getBoundingClientRect().bottom")
                    self.assertLess(save, height)
                    self.script(axe)
                    faults = self.browser.execute_async_script(
                        "var done = arguments[0]; axe.run().then(function (r) { done(r.violations.map(function (v) {"
                        " return v.id + ': ' + v.nodes.slice(0, 3).map(function (n) {"
                        " return n.html + ' ' + n.failureSummary; }); })); })")
                    self.assertEqual([], faults)

    def test_a_clash_decided_field_by_field(self) -> None:
        for site, said in ((self.h.live, "live"), (self.h.staging, "staging")):
            page = site.find("page", "school-groups")
            site.edit(page["id"], title=f"Of {said}", status="public" if said == "live" else "draft")
            site.set_field(page["id"], "picture", 1 if said == "live" else 2)
        self.open()
        entry = self.entry("page/school-groups")
        self.decide("page/school-groups", "fields")
        names = [f.get_attribute("data-field") for f in entry.find_elements("css selector", "[data-field]")]
        self.assertGreater(len(names), 1)
        self.assertNotIn("page/school-groups", tomllib.loads(self.saved_file().read_text())["decide"])
        for name in names:
            side = "staging" if name == "title" else "live"
            self.script("arguments[0].click()", entry.find_element(
                "css selector", f'[data-field="{name}"] input[value="{side}"]'))
        file = self.saved_file()
        self.assertEqual(tomllib.loads(file.read_text())["decide"]["page/school-groups"],
                         {n: "staging" if n == "title" else "live" for n in names})
        done = self.run_it("merge", "trip", "--selection", str(file), "--yes")
        self.assertIn(done.returncode, (0, 1), done.stderr)
        self.assertEqual(self.h.live.find("page", "school-groups")["title"], "Of staging")

    def test_what_the_page_works_out_is_what_a_merge_works_out(self) -> None:
        site = self.h.staging
        parent = None
        for number in range(6):  # pages below pages
            parent = site.add("page", f"deep-{number}", f"Deep {number}", parent_id=parent)
        self.open()
        entries = self.browser.find_elements("css selector", ".entry[data-item]")
        offered = [e.get_attribute("data-item") for e in entries]
        clashes = [n for n, s in self.h.standings().items() if s == "clash" and n in offered]
        chance = random.Random(7)
        for _ in range(6):
            self.script("document.getElementById('none').click()")
            for name in chance.sample(sorted(set(offered) - set(clashes)), 4):
                if self.entry(name).find_element("css selector", ".tick").is_enabled():
                    self.tick(name)
            for name in clashes:
                self.decide(name, chance.choice(("", "live", "staging")))
            file = self.saved_file()
            goes = {e.get_attribute("data-item") for e in self.browser.find_elements("css selector", ".entry.goes")}
            self.assertEqual(set(tomllib.loads(file.read_text())["selection"]["take"]), goes)
            if not goes:
                continue
            with opened(self.h.home, self.h.home.read("trip")) as crew:
                chosen = prepare(crew, read(file).choice).plan.selection
            self.assertEqual({i.id for i in chosen.items}, goes)

    def test_whatever_the_site_holds_is_text(self) -> None:
        site = self.h.staging
        site.add("page", "odd-1", "</script><script>document.title = 'broken'</script>",
                 "\"'><img src=x onerror=alert(1)>")
        site.set("odd\"'><b>&amp;\u2028", {"</textarea>": "x"})
        self.open()
        self.assertNotEqual(self.browser.title, "broken")
        data = tomllib.loads(self.saved_file().read_text())
        self.assertIn("page/odd-1", data["selection"]["take"])
        self.assertTrue(any(n.startswith("setting/odd\"'><b>") for n in data["seen"]))


if __name__ == "__main__":
    unittest.main()
