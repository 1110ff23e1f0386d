"""Projects whose settings are a program: what they come to is read without running them; a copy gets its own module."""

import json
import sqlite3
import subprocess
import sys
from pathlib import Path

from nostos.core.clone.clone import clone
from nostos.core.errors import SiteError
from nostos.core.sites.recognise import recognise
from nostos.core.sites.settings_reader import SettingsReader, Unknown
from nostos.core.voyages.home import Home
from tests.support import Harbour, SiteTest

PROGRAM = 'import os\nos.environ.setdefault("DJANGO_SETTINGS_MODULE", "ridge.settings.{}")\n'
BASE = '''
import os
from pathlib import Path
RAN = open("/nonexistent-and-never-opened")
BASE_DIR = Path(__file__).resolve().parent.parent.parent
ROOT = os.path.dirname(os.path.dirname(os.path.dirname(os.path.abspath(__file__))))
DATABASES = {"default": {"ENGINE": "django.db.backends.sqlite3", "NAME": BASE_DIR / "nowhere.db"}}
MEDIA_ROOT = os.path.join(ROOT, "media")
STATIC_ROOT = "%s/static"
CACHES = {"default": {"BACKEND": "x"}}
'''
LIVE = '''
from .base import *
try:
    from .local import *
except ImportError:
    pass
WAGTAILADMIN_BASE_URL = f"https://{HOST}"
if os.environ.get("RIDGE_SMALL", "yes") == "yes":
    DATABASES["default"]["NAME"] = BASE_DIR / "data" / "site.db"
else:
    DATABASES = worked_out()
'''


class PythonSettings(SiteTest):
    def setUp(self) -> None:
        super().setUp()
        self.live = self.folder / "live"
        settings = self.live / "ridge" / "settings"
        for folder in (settings, self.live / "data", self.live / "media"):
            folder.mkdir(parents=True)
        (self.live / "manage.py").write_text(PROGRAM.format("dev"))
        (self.live / "ridge" / "wsgi.py").write_text("# what answers visitors\n" + PROGRAM.format("live") + "x = 1\n")
        for name, text in {"__init__": "", "base": BASE % self.live, "live": LIVE, "local": "HOST = 'ridge.example'\n",
                           "dev": "DATABASES = {}\n"}.items():
            (settings / f"{name}.py").write_text(text)
        with sqlite3.connect(self.live / "data" / "site.db") as connection:
            for table in ("django_content_type", "auth_permission", "auth_group"):
                connection.execute(f"CREATE TABLE {table} (id INTEGER PRIMARY KEY, name TEXT)")

    def say(self, name: str, more: str) -> None:
        with (self.live / "ridge" / "settings" / f"{name}.py").open("a") as file:
            file.write(more)

    def test_a_copy_runs_on_what_is_its_own_and_its_settings_still_go_home(self) -> None:
        site = recognise(self.live)
        self.assertEqual((site.name, site.url, str(site.database.file), site.profile.name, site.uncopyable),
                         ("live", "https://ridge.example", str(self.live / "data/site.db"), "django", ""))
        h = Harbour(self.folder, self.live, "http://staging.example:8001")
        self.assertEqual([g.name for g in h.cloned.guards], ["nostos_copy.py"])
        copy = recognise(h.staging_folder)
        self.assertEqual((copy.url, copy.database.file), (h.home.read("trip").url, h.staging_folder / "data/site.db"))
        self.assertEqual(h.standings(), {})
        mended = (BASE % self.live).replace("RAN = open", "RAN = str")
        (self.live / "ridge/settings/base.py").write_text(mended)
        (h.staging_folder / "ridge/settings/base.py").write_text(mended + "DEBUG = False\n")
        for program in ("ridge/wsgi.py", "manage.py"):
            ran = subprocess.run(  # it is run here, as the framework would, to see what it comes to
                [sys.executable, "-c", f"import os, json; exec(open({program!r}).read())\n"
                 "import importlib; s = importlib.import_module(os.environ['DJANGO_SETTINGS_MODULE'])\n"
                 "print(json.dumps([str(s.DATABASES['default']['NAME']), s.MEDIA_ROOT, s.STATIC_ROOT, s.ALLOWED_HOSTS, "
                 "s.EMAIL_BACKEND, s.WAGTAILADMIN_BASE_URL, s.CACHES['default']['KEY_PREFIX']]))"],
                cwd=h.staging_folder, capture_output=True, text=True, check=True)
            self.assertEqual(json.loads(ran.stdout), [
                *(str(h.staging_folder / p) for p in ("data/site.db", "media", "static")), ["staging.example"],
                "django.core.mail.backends.dummy.EmailBackend", "http://staging.example:8001", "copy of "])
        h.merge("*")
        self.assertIn("DEBUG = False", (self.live / "ridge/settings/base.py").read_text())
        self.assertFalse((self.live / "nostos_copy.py").exists())
        self.assertIn("ridge.settings.live", (self.live / "ridge/wsgi.py").read_text())

    def test_what_cannot_be_told_or_copied_is_said(self) -> None:
        self.say("live", "MEDIA_ROOT = '/srv/elsewhere'\n")
        with self.assertRaisesRegex(SiteError, "outside the project's folder"):
            clone(Home(self.folder / "home"), self.live, "trip", self.folder / "staging", "http://127.0.0.1:8001")
        self.say("live", "MEDIA_ROOT = ROOT\nDATABASES['legacy'] = {}\n")
        self.assertIn("several databases", recognise(self.live).uncopyable)
        for more, why in (
                ("DATABASES = {'default': {'ENGINE': 'django.db.backends.postgresql', 'NAME': 'x', 'PASSWORD': "
                 "secret('x')}}\n", "PASSWORD is worked out"),
                ("for x in y:\n    DATABASES = x\n", "is worked out when it runs"), ("(((", "cannot be read")):
            self.say("live", more)
            with self.assertRaises(SiteError) as caught:
                recognise(self.live)
            self.assertIn(why, caught.exception.what)
            self.assertIn("nostos.toml", caught.exception.next_step)
        (self.live / "nostos.toml").write_text("[site]\nname = 'r'\nurl = 'http://r.example'\n"
                                               "database = 'sqlite:///data/site.db'\n")
        self.assertEqual(recognise(self.live).name, "r")

    def test_expressions(self) -> None:
        (self.live / "m.py").write_text("""
import os
A = [1] + [2]; B = "a" + "b"; C = {**{"x": 1}, "y": A[1]}
D = os.getenv("NOSTOS_UNSET", "d"); E = os.environ["NOSTOS_UNSET"]; F = D or E; G = not D
H, (I, J) = 1, (2, 3); K = {"a": {"b": 1}}; K["a"].update({"c": 2}); K["a"]["d"] = E
L = Path("/x/y/z").parents[1] / "w"; M = "a" if "q" in B else "n"
N = [1]; N.extend(E)
def o(): A = 5
P = __import__("os").system("true"); Q = [x for x in A]; R = config("NOSTOS_UNSET", default="r")
S = dj_database_url.config(default="postgres://u@h/d")
while E: T = 1
if E:
    K["a"] = 3
""")
        names = SettingsReader(self.live, {}).names("m")
        assert names is not None
        said = {n: None if isinstance(v, Unknown) else str(v) if isinstance(v, Path) else v
                for n, v in names.items() if n.isupper()}
        self.assertEqual({n: str(v) for n, v in said.items() if v is not None}, {
            "A": "[1, 2]", "B": "ab", "C": "{'x': 1, 'y': 2}", "D": "d", "F": "d", "G": "False", "H": "1", "I": "2",
            "J": "3", "L": "/x/w", "M": "n", "R": "r", "S": "{'url': 'postgres://u@h/d'}"})
