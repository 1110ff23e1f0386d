"""A merge of entities rehearsed, and tried: a copy of the stand-in answers with its pages."""

from __future__ import annotations

import socket
import subprocess
import tempfile
import time
import unittest
import urllib.request
from contextlib import suppress
from pathlib import Path

from nostos.around.rehearsal.rehearse import RehearsalOptions, rehearse
from nostos.around.rehearsal.serving import command_of
from nostos.core.plan.selection import Choice
from tests.entities.system import NOW, EntitySite
from tests.real.servers import missing


@unittest.skipIf(missing(), missing())
class Pages(unittest.TestCase):
    def test_what_visitors_would_see(self) -> None:
        with tempfile.TemporaryDirectory() as made, socket.socket() as taken:
            taken.bind(("127.0.0.1", 0))
            port = taken.getsockname()[1]
            taken.close()
            site = EntitySite(Path(made), "mariadb", f"http://127.0.0.1:{port}", Path(__file__).with_name("pages.php"))
            self.serve(site, port)
            site.save("staging", "node", {"changed": NOW + 5}, {"body": [
                {"value": "<p>Better words.</p>", "summary": "", "format": "basic_html"}]}, "article", 3)
            site.article("live", "Storm warning")
            ours = site.article("staging", "Open day", tags=[2])
            with site.crew() as crew:
                _, found = rehearse(site.home, crew, Choice(), RehearsalOptions(command_of(crew.live), 60, 200))
            assert found is not None
            said = {p.path: (str(p.verdict), p.item) for p in found.pages}
            self.assertEqual(said.pop("/story-3"), ("expected", "article/3"))
            self.assertEqual(said.pop("/open-day"), ("new", f"article/{ours + 1}"))
            self.assertEqual({v for v, _ in said.values()}, {"same"}, said)
            self.assertEqual(said["/storm-warning"], ("same", f"article/{ours}"))
            self.assertTrue(found.holds and found.visited)
            self.assertEqual(site.faults("live"), [])

    def serve(self, site: EntitySite, port: int) -> None:
        folder = str(site.live_folder)
        process = subprocess.Popen(["php", "-S", f"127.0.0.1:{port}", "-t", folder, f"{folder}/.ht.router.php"],
                                   stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL)
        self.addCleanup(process.wait)
        self.addCleanup(process.terminate)
        for _ in range(100):
            with suppress(OSError):
                urllib.request.urlopen(f"http://127.0.0.1:{port}/", timeout=5).close()
                return
            time.sleep(0.1)


if __name__ == "__main__":
    unittest.main()
