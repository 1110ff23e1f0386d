"""Trials of the stand-in: what broke is found, what someone edited is expected, what is merely local is nothing."""

import tempfile
import threading
import unittest
from dataclasses import replace
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from pathlib import Path
from typing import Any

from PIL import Image

from nostos.around.trial.compare import PageFacts, Seen, Verdict, judge
from nostos.around.trial.page import Page, inside, read
from nostos.around.trial.pictures import difference
from nostos.around.trial.run import Options, Trial, VisitedPages, judged, remember, remembered, visit
from nostos.around.trial.visit import Access, Pace, Visitor, may_follow
from nostos.core.anchor.open_voyage import opened
from nostos.core.clone.clone import clone
from nostos.core.clone.options import CloneOptions
from nostos.core.errors import NostosError
from nostos.core.plan.prepared import prepare
from nostos.core.sites.guards import gate
from nostos.core.voyages.home import Home
from nostos.demo.seed import make
from nostos.demo.server import Server
from tests.real.servers import free_port
from tests.support import ServedTest

FAST = Options(rate=500)


class Stand(ServedTest):
    answering = ("live", "staging")

    def visit(self, options: Options = FAST) -> tuple[Trial, VisitedPages]:
        with self.h.crew() as crew:
            seen, left = visit(crew, options)
            return judged(crew, seen, left), seen

    def verdicts(self, found: Trial) -> dict[str, str]:
        """What became of pages; how long they took on a busy machine says nothing here."""
        return {p.path: str(p.verdict) for p in found.pages if p.verdict not in (Verdict.SAME, Verdict.SLOWER)}

    def test_nothing_is_a_difference_at_first(self) -> None:
        found, _ = self.visit()
        self.assertEqual(self.verdicts(found), {})
        self.assertGreater(len(found.pages), 10)
        self.assertEqual(self.visit(Options(most=3, rate=500))[0].left, len(found.pages) - 3)
        soon = self.visit(Options(rate=500, minutes=1e-6))[0]
        self.assertEqual((len(soon.pages), soon.left > 9), (0, True))

    def test_what_someone_did_is_expected_and_what_broke_is_not(self) -> None:
        live, staging = self.h.live, self.h.staging
        _, before = self.visit()
        staging.edit(staging.find("page", "visit")["id"], title="How to reach us")
        staging.add("page", "new", "New")
        live.add("page", "born-on-live", "Born on live")
        staging.remove(staging.find("page", "winter-closing")["id"])
        live.comment(live.find("note", "a-still-night")["id"], "A Visitor", "Nice")
        (next((staging.folder / "uploads").rglob("*.svg"))).unlink()
        found, _ = self.visit()
        verdicts = self.verdicts(found)
        self.assertEqual({v for p, v in verdicts.items() if p in (
            "/visit", "/winter-closing", "/born-on-live", "/a-still-night")}, {"expected"})
        self.assertEqual(verdicts.pop("/new"), "new")
        broke = [p for p in found.pages if p.verdict is Verdict.BROKE]
        self.assertTrue(broke and found.broke)
        self.assertTrue(all(p.why[0].startswith("missing: /uploads/") for p in broke))
        # what an update did shows against what staging was before it
        page = staging.find("page", "programme")
        staging.edit(page["id"], body="<p>Warning: Undefined variable $sky in /srv/x.php on line 7</p>")
        with self.h.crew() as crew:
            seen, _ = visit(crew, FAST)
            remember(self.h.home, "trip", "first", before)
            again = judged(crew, seen, 0, ("first", remembered(self.h.home, "trip", "first")))
        said = {p.path: p for p in again.pages}
        self.assertEqual(said["/programme"].verdict, Verdict.BROKE)
        self.assertIn("prints an error: Warning: Undefined variable", " ".join(said["/programme"].why))
        self.assertEqual(said["/visit"].verdict, Verdict.EXPECTED)
        with self.assertRaisesRegex(NostosError, "There are: first|No trial was remembered"):
            remembered(self.h.home, "trip", "second")

    def test_a_page_that_everybody_can_see_now(self) -> None:
        def seen(status: int, inner: str) -> Seen:
            return Seen(read("/x", status, f"<html><main><h1>X</h1>{inner}</main></html>", "http://a.example"))

        asked = '<form><input name="word" type="password"></form>'
        for status, inner in ((200, asked), (401, ""), (403, ""), (404, "")):
            with self.subTest(status):
                found = judge(seen(status, inner), seen(200, "<p>For members.</p>"), PageFacts())
                self.assertEqual(Verdict.OPENED, found.verdict)
                self.assertIn("anybody can see it now", found.why[0])
        edited = PageFacts("page/x", edited=True)
        self.assertEqual(Verdict.OPENED, judge(seen(200, asked), seen(200, "<p>Now</p>"), edited).verdict)
        self.assertEqual(Verdict.EXPECTED, judge(seen(404, ""), seen(200, "<p>Now</p>"), edited).verdict)  # published
        for still in ((200, asked), (403, ""), (200, "")):
            self.assertNotEqual(Verdict.OPENED, judge(seen(*still), seen(*still), PageFacts()).verdict)

    def test_a_further_address_of_the_site_is_not_away(self) -> None:
        def seen(**more: Any) -> Seen:
            return Seen(Page("http://shop.example/?p=3", 200, **more))

        own = "http://shop.example/?page_id=3"
        self.assertEqual(Verdict.CHANGED, judge(Seen(Page("http://shop.example/?p=3", 0, "does not answer")),
                                                seen(moved=own), PageFacts()).verdict)
        self.assertEqual(Verdict.CHANGED, judge(seen(), seen(moved=own), PageFacts()).verdict)
        self.assertEqual(Verdict.BROKE, judge(seen(), seen(moved="http://elsewhere.example/"), PageFacts()).verdict)

    def test_a_site_that_does_not_answer(self) -> None:
        other = Home(self.folder / "elsewhere")
        make(self.folder / "dark", f"http://127.0.0.1:{free_port()}")
        clone(other, self.folder / "dark", "trip", self.folder / "darker", f"http://127.0.0.1:{free_port()}")
        with opened(other, other.read("trip")) as crew, self.assertRaisesRegex(NostosError, "cannot be reached"):
            visit(crew, FAST)

    def test_a_copy_that_asks_for_a_password(self) -> None:
        home, url = Home(self.folder / "gated"), f"http://127.0.0.1:{free_port()}"
        done = clone(home, self.h.live_folder, "shut", self.folder / "shut", url,
                     CloneOptions(gate=gate("colleague", "pass: word")))
        self.assertNotIn("pass: word", repr(done))
        self.assertNotIn("100000:", repr(done.guards))
        server = Server(self.folder / "shut")
        server.start()
        self.addCleanup(server.server_close)
        self.addCleanup(server.shutdown)
        with opened(home, home.read("shut")) as crew:
            for entry in (Access(), Access(("colleague", "guess"))):
                with self.assertRaisesRegex(NostosError, "The staging site asks for a password"):
                    visit(crew, Options(rate=500, entry=entry))
            seen, _ = visit(crew, Options(most=4, rate=500, entry=Access(("colleague", "pass: word"))))
            self.assertFalse(judged(crew, seen).broke)
            self.assertEqual(prepare(crew).plan.operations, ())


HTML = """<html><head><title>T</title><link rel=stylesheet href=/s.css></head><body><nav><a href=/a>A</a></nav>
<main><h1>One {0}</h1><p>{1}</p><img src="{2}"><form action=/send><input name=email></form></main>
<div id="nostos-staging-mark">STAGING {0}</div></body></html>"""


class Pages(unittest.TestCase):
    def seen(self, one: str = "", text: str = "words " * 30, picture: str = "/p.png", status: int = 200) -> Seen:
        return Seen(read("/x", status, HTML.format(one, text, picture), "http://a.example"))

    def test_what_is_read(self) -> None:
        page = self.seen(text="at 12:30, 5 minutes ago, http://a.example/y <b>bold</b>").page
        self.assertEqual(page.lines, ("One", "at 0:00, some time ago, /y bold"))
        self.assertEqual((page.assets, page.links, page.forms), (("/s.css", "/p.png"), ("/a",), ("/send: email",)))
        self.assertEqual(page.frame, ("A",))

    def test_verdicts(self) -> None:
        whole = self.seen()
        gone = Seen(read("/x", 200, "<title>T</title><main><p>few</p></main>", "http://a.example"))
        for after, edited, expected, says in (
                (self.seen(), False, "same", ""), (self.seen("More"), False, "changed", "heading gone"),
                (self.seen("More"), True, "expected", ""), (self.seen(status=500), True, "broke", "answered with 500"),
                (gone, False, "broke", "a form is gone"),
                (Seen(whole.page, missing=("/p.png",)), True, "broke", "missing"),
                (Seen(whole.page, dead=("/b",)), False, "broke", "leads nowhere"),
                (self.seen(text="<b>Warning</b>:  Undefined in <b>/x</b> on line <b>3</b>"), True, "broke", "prints")):
            found = judge(whole, after, PageFacts("page/x", edited))
            self.assertEqual(str(found.verdict), expected, found)
            self.assertIn(says, " ".join(found.why))
        slow = judge(Seen(replace(whole.page, seconds=0.1, size=9000)), Seen(replace(
            whole.page, seconds=0.9, size=200_000)), PageFacts())
        self.assertEqual((slow.verdict, slow.why), (Verdict.SLOWER, (
            "takes 0.9 s, took 0.1 s", "weighs 200 kB, weighed 9 kB")))
        self.assertEqual(judge(self.seen(status=500), self.seen(status=500), PageFacts()).verdict, Verdict.SAME)
        self.assertEqual(judge(None, Seen(whole.page, ("/p",)), PageFacts(only="staging")).verdict, Verdict.BROKE)

    def test_it_stays_on_the_site_and_does_nothing(self) -> None:
        base = "https://a.example/shop"
        for url, expected in (("https://a.example/shop/x#y", "/x"), ("x", "/x"), ("/shop/z?p=1", "/z?p=1"),
                              ("https://a.example/shopping", None), ("https://b.example/shop/", None),
                              ("//a.example:444/shop/", None), ("mailto:x@a.example", None), ("http://[", None)):
            self.assertEqual(inside(base, url), expected, url)
        for path in ("/wp-login.php?action=logout", "/a?delete=1", "/file.zip", "/cart/", "/a?_wpnonce=1"):
            self.assertFalse(may_follow(path), path)
        self.assertTrue(may_follow("/a?page_id=3") and may_follow("/a/b.html"))

    def test_protected_staging_and_redirects(self) -> None:
        asked: list[tuple[str, str | None, str | None]] = []

        class Handler(BaseHTTPRequestHandler):
            def do_GET(self) -> None:
                asked.append((self.path, self.headers.get("Authorization"), self.headers.get("Cookie")))
                away = {"/away": "https://live.example/", "/round": "/round", "/on": "/there"}.get(self.path)
                self.send_response(302 if away else 200)
                if away:
                    self.send_header("Location", away)
                self.send_header("Content-Type", "text/html")
                self.end_headers()
                self.wfile.write(b"<title>x</title>" * (600_000 if self.path == "/large" else 1))

            def log_message(self, *args: object) -> None:
                return

        server = ThreadingHTTPServer(("127.0.0.1", 0), Handler)
        threading.Thread(target=server.serve_forever, daemon=True).start()
        self.addCleanup(server.server_close)
        self.addCleanup(server.shutdown)
        visitor = Visitor(f"http://127.0.0.1:{server.server_port}", Pace(500), Access(("me", "secret"), "pass=1"))
        self.addCleanup(visitor.close)
        self.assertEqual(visitor.page("/on").moved, "/there")
        self.assertEqual(visitor.page("/away").moved, "https://live.example/")
        self.assertEqual(visitor.page("/round").failed, "is led in a circle")
        self.assertLess(visitor.page("/large").size, 6 << 20)
        self.assertTrue(all(auth and auth.startswith("Basic ") and cookie == "pass=1" for _, auth, cookie in asked))

    def test_pixels(self) -> None:
        folder = Path(self.enterContext(tempfile.TemporaryDirectory()))
        Image.new("RGB", (10, 10), "white").save(folder / "a.png")
        other = Image.new("RGB", (10, 20), "white")
        other.paste("black", (0, 0, 10, 5))
        other.save(folder / "b.png")
        self.assertEqual(difference(folder / "a.png", folder / "b.png", folder / "c.png"), 0.25)


