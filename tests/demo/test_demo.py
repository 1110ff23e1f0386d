"""The demo: the story with the real commands, and what a browser gets from both sites."""

import io
import socket
import urllib.request
from urllib.error import HTTPError

from nostos.cli.environment import Environment
from nostos.cli.main import main
from nostos.demo.server import Server
from nostos.demo.system import Observatory
from tests.support import Harbour, SiteTest, rows


class Demo(SiteTest):
    def test_the_story_ends_well(self) -> None:
        out, err = io.StringIO(), io.StringIO()
        status = main(["demo", "--into", str(self.folder / "story")], Environment(io.StringIO(), out, err, width=150))
        self.assertEqual(status, 0, err.getvalue())
        said = out.getvalue()
        self.assertIn("Present and equal: 14 things that live gained", said)
        self.assertNotIn("DIFFERENT", said)
        live = Observatory(self.folder / "story/live")
        self.assertEqual(live.find("page", "visit")["title"], "How to reach the hill")
        self.assertEqual(live.find("page", "autumn-talks")["parent_id"], live.find("page", "autumn-programme")["id"])
        walk = rows(live.database, "SELECT begins, minutes FROM ext_walks")  # asked about once, and then right
        self.assertEqual(walk, [(live.find("page", "autumn-talks")["id"], 45)])
        self.assertEqual(rows(live.database, "SELECT 1 FROM sqlite_master WHERE name='ext_walk_bookings'"), [])
        self.assertEqual(said.count("Questions: 1"), 1)
        self.assertEqual(live.find("order", "kr-2b0f")["title"], "Order of Jonas Weir")
        self.assertEqual(live.setting("theme"), "dusk")
        theme = live.setting("theme.dusk")
        self.assertEqual((theme["accent"], theme["footer"]), ("#d98e5b", "Clear skies, warm hands."))
        self.assertEqual([e["label"] for e in live.setting("menu.main")["entries"]], [
            "Programme", "Autumn evenings", "Sky notes", "Shop", "How to find us", "For schools"])
        self.assertEqual(live.find("note", "a-still-night")["title"], "A still night")
        self.assertFalse((self.folder / "story/staging").exists())

    def test_both_sites_in_a_browser(self) -> None:
        with socket.socket() as one, socket.socket() as two:
            for s in (one, two):
                s.bind(("127.0.0.1", 0))
            ports = [s.getsockname()[1] for s in (one, two)]
        h = Harbour(self.folder, url=f"http://127.0.0.1:{ports[1]}")
        configuration = h.live_folder / "observatory.toml"
        configuration.write_text(configuration.read_text().replace("8431", str(ports[0])))
        h.staging.set("theme", "dusk")
        h.staging.order("kr-test", "Test Person", [(13, 1, 900)])
        h.live.order("kr-real", "A Visitor", [(13, 1, 900)])
        self.assertFalse((h.staging_folder / "outbox").exists())  # the guard: no mail from staging
        self.assertTrue((h.live_folder / "outbox/kr-real.txt").exists())
        servers = [Server(h.live_folder), Server(h.staging_folder)]
        for server in servers:
            server.start()
            self.addCleanup(server.server_close)
            self.addCleanup(server.shutdown)
        live, staging = (f"http://127.0.0.1:{p}" for p in ports)

        def get(url: str) -> tuple[str, str]:
            with urllib.request.urlopen(url) as answer:
                return answer.read().decode(), answer.headers.get("X-Robots-Tag", "")

        page, robots = get(staging + "/")
        self.assertIn("STAGING COPY of kestrel-ridge: voyage trip", page)
        self.assertIn("theme Dusk 1.0", page)
        self.assertIn('content="noindex', page)
        self.assertEqual(robots, "noindex, nofollow")
        self.assertNotIn(f":{ports[0]}", page)
        self.assertIn("Disallow: /", get(staging + "/robots.txt")[0])
        page, robots = get(live + "/")
        self.assertNotIn("STAGING", page)
        self.assertIn("theme Meadow 3.1", page)
        self.assertEqual(robots, "")
        self.assertIn("<svg", get(staging + "/uploads/2026/star-wheel.svg")[0])
        for path in ("/uploads/../observatory.toml", "/nothing"):
            with self.assertRaises(HTTPError):
                get(staging + path)
