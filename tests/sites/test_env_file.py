"""Projects whose settings are a program: what stands beside it as text is read, and written anew for a copy."""

import sqlite3

from nostos.core.clone.clone import clone
from nostos.core.database.registry import locate
from nostos.core.errors import SiteError
from nostos.core.sites import env_file
from nostos.core.sites.recognise import recognise
from nostos.core.voyages.home import Home
from tests.support import SiteTest

ENV = """# kept as it is
export SECRET_KEY='p$w #1'   # a secret
DATABASE_URL=sqlite:///data/site.db
WAGTAILADMIN_BASE_URL="https://ridge.example"  # the address
MEDIA_HOST = https://ridge.example/media
DEBUG=off
"""


class EnvFile(SiteTest):
    def setUp(self) -> None:
        super().setUp()
        self.live = self.folder / "ridge"
        (self.live / "data").mkdir(parents=True)
        (self.live / "manage.py").write_text("raise SystemExit('never run')\n")
        with sqlite3.connect(self.live / "data" / "site.db") as connection:
            for table in ("django_content_type", "auth_permission", "auth_group"):
                connection.execute(f"CREATE TABLE {table} (id INTEGER PRIMARY KEY, name TEXT)")

    def test_a_project_is_recognised_and_its_copy_led_to_its_own(self) -> None:
        with self.assertRaises(SiteError) as caught:
            recognise(self.live)
        self.assertIn("never run", caught.exception.what)
        self.assertIn("DATABASE_URL", caught.exception.next_step)
        (self.live / ".env").write_text(ENV)
        site = recognise(self.live)
        self.assertEqual((site.name, site.url, site.profile.name), ("ridge", "https://ridge.example", "django"))
        clone(Home(self.folder / "home"), self.live, "trip", self.folder / "staging", "https://staging.example/a")
        self.assertEqual((self.folder / "staging" / ".env").read_text(), ENV.replace(
            "ridge.example", "staging.example/a").replace('"https://staging.example/a"', "https://staging.example/a"))
        self.assertEqual(recognise(self.folder / "staging").url, "https://staging.example/a")

    def test_values_as_usual_readers_take_them(self) -> None:
        location = locate("sqlite:///data/site.db", self.live)
        kept = b"# site\nDATABASE_URL=sqlite:///old.db # its own\r\nKEY=a#b\nLONG='one\ntwo'\nnoise\n\n"
        self.assertEqual(env_file.values_in(kept)["KEY"], "a#b")
        self.assertEqual(env_file.rewritten(kept, "https://s.example", location, self.live),
                         kept.replace(b"old.db", b"data/site.db"))
        self.assertEqual(env_file.values_in(b"A=1 # x\nexport B = 'a b'\nC=\"q\\\"q\"\n#D=1\nE=\nA=2\nnoise\n"),
                         {"A": "2", "B": "a b", "C": 'q"q', "E": ""})
