"""Pictures of pages: on the page of a comparison, a rehearsal and a merge; and how the browser reaches a site."""

import io
import json
import shutil
import subprocess
import sys
import threading
import unittest
from base64 import b64decode
from collections import Counter
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from pathlib import Path

import requests
from bs4 import BeautifulSoup
from PIL import Image

from nostos.around.trial.camera import camera
from nostos.around.trial.pictures import small
from nostos.around.trial.visit import Access, Pace, Visitor
from tests.support import ServedTest

MISSING = shutil.which("chromium") is None


@unittest.skipIf(MISSING, "not installed: chromium")
class Pictures(ServedTest):
    answering = ("live", "staging")

    def nostos(self, *words: str) -> subprocess.CompletedProcess[str]:
        done = subprocess.run([sys.executable, "-m", "nostos", "--home", str(self.h.home.path), *words],
                              capture_output=True, text=True, check=False)
        self.assertIn(done.returncode, (0, 1), done.stderr)
        return done

    def shots(self, page: Path) -> dict[str, list[str]]:
        """What is said of the pictures on a page, by what they stand beside; each is a small picture of a page."""
        found = {}
        for entry in BeautifulSoup(page.read_text(), "html.parser").select(".entry"):
            images = entry.select(".shots img")
            for image in images:
                with Image.open(io.BytesIO(b64decode(image["src"].partition(",")[2]))) as picture:
                    self.assertEqual((640, 800), picture.size)
                    self.assertGreater(len(picture.convert("L").getcolors() or ()), 20)  # not an empty page
            if images:
                name = entry.select_one(".name") or entry.select_one(".title")
                found[name.text] = [i.text for i in entry.select(".shots span")]
        return found

    def test_on_the_page_of_a_comparison(self) -> None:
        staging, page = self.h.staging, self.folder / "page.html"
        staging.edit(staging.find("page", "visit")["id"], title="How to reach us, by bus and on foot")
        staging.add("page", "new", "New")
        self.nostos("compare", "trip", "--html", str(page), "--pictures", "--most", "4", "--rate", "500")
        found = self.shots(page)
        self.assertEqual(["staging"], found["page/new"])
        self.assertRegex(found["page/visit"][1], r"^staging, \d+\.\d% differs$")  # its mark, and its title
        self.assertEqual("live", found["page/visit"][0])
        refused = subprocess.run([sys.executable, "-m", "nostos", "--home", str(self.h.home.path), "compare", "trip",
                                  "--pictures"], capture_output=True, text=True, check=False)
        self.assertEqual((3, True), (refused.returncode, "Name it: --html FILE" in refused.stderr))

    def test_of_what_a_rehearsal_and_a_merge_did(self) -> None:
        staging, page = self.h.staging, self.folder / "page.html"
        staging.edit(staging.find("page", "visit")["id"], title="How to reach us, by bus and on foot")
        self.nostos("rehearse", "trip", "--html", str(page), "--pictures", "--most", "3", "--rate", "500")
        first = self.shots(page)
        self.assertRegex(first.pop("/visit")[1], r"^the copy, \d+\.\d% differs$")
        self.assertEqual({}, first)  # the others look as they did
        said = self.nostos("--json", "merge", "trip", "--yes", "--html", str(page), "--pictures", "--watch-pages", "3")
        self.assertEqual([], json.loads(said.stdout)["watched"]["failing"])
        (path, shown), = self.shots(page).items()
        self.assertEqual(("/visit", "before"), (path, shown[0]))
        self.assertRegex(shown[1], r"^after, \d+\.\d% differs$")

    def test_all_of_them_stay_small(self) -> None:
        def noise(name: str) -> Path:
            path = self.folder / name
            Image.effect_noise((1280, 1600), 90).convert("RGB").save(path)
            return path

        found = small(((f"/{n}", noise("a.png"), noise("b.png")) for n in range(8)), 200)
        self.assertLess(sum(len(s.before) + len(s.after) for s in found) / 16 * 400 * 4 / 3, 10_000_000)


@unittest.skipIf(MISSING, "not installed: chromium")
class HowTheBrowserReachesASite(unittest.TestCase):
    def test_it_looks_as_a_visitor_does_and_can_do_nothing(self) -> None:
        asked: Counter[str] = Counter()

        class Site(BaseHTTPRequestHandler):
            def do_GET(self) -> None:
                asked[f"{self.command} {self.path} {self.headers['Host']} {self.headers['X-Forwarded-Proto']}"] += 1
                entered = self.headers["Authorization"] == "Basic YTpi"
                style = self.path == "/style.css"
                body = b"p { }" if style else b'<a href="https://ridge.example/x">x</a> https://elsewhere.example'
                self.send_response(302 if self.path == "/old" else 200 if entered else 401)
                self.send_header("Content-Type", "text/css" if style else "text/html")
                self.send_header("Location", "https://ridge.example/new")
                self.send_header("Content-Length", str(len(body)))
                self.end_headers()
                self.wfile.write(body)

            do_POST = do_GET

            def log_message(self, format: str, *args: object) -> None:
                pass

        server = ThreadingHTTPServer(("127.0.0.1", 0), Site)
        self.addCleanup(server.server_close)
        self.addCleanup(server.shutdown)
        threading.Thread(target=server.serve_forever, daemon=True).start()
        visitor = Visitor("https://ridge.example", Pace(500), Access(("a", "b")),
                          at=f"127.0.0.1:{server.server_address[1]}")
        self.addCleanup(visitor.close)
        with camera(visitor) as taking, requests.Session() as session:
            session.trust_env = False

            def ask(path: str, host: str = "ridge.example", method: str = "GET") -> requests.Response:
                return session.request(method, f"http://127.0.0.1:{taking.port}{path}", headers={"Host": host},
                                       allow_redirects=False, timeout=9)

            self.assertEqual('<a href="http://ridge.example/x">x</a> https://elsewhere.example', ask("/").text)
            self.assertEqual("http://ridge.example/new", ask("/old").headers["Location"])
            self.assertEqual([200, 200], [ask("/style.css").status_code for _ in range(2)])
            self.assertEqual(404, ask("/", "elsewhere.example").status_code)
            self.assertEqual(501, ask("/", method="POST").status_code)
        self.assertEqual({"GET / ridge.example https": 1, "GET /old ridge.example https": 1,
                          "GET /style.css ridge.example https": 1}, asked)


if __name__ == "__main__":
    unittest.main()
