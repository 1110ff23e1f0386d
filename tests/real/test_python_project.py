"""A project of the Python content system as its own command starts it: settings are read, migrations go home."""

from __future__ import annotations

import json
import os
import subprocess
import sys
import unittest
import urllib.request
from collections.abc import Iterator
from contextlib import contextmanager
from importlib.util import find_spec
from pathlib import Path
from time import sleep
from typing import Any
from unittest import mock

from nostos.around.rehearsal.rehearse import RehearsalOptions, rehearse
from nostos.around.rehearsal.serving import command_of
from nostos.core.apply.merge import merge
from nostos.core.plan.selection import Choice
from nostos.core.sites.recognise import recognise
from nostos.core.takeback.undo import prepare_undo, to_take_back
from tests.real.postgres import PASSWORD, missing, postgres
from tests.real.servers import free_port
from tests.support import Harbour, SiteTest

MODELS = """
from django.db import models
from modelcluster.contrib.taggit import ClusterTaggableManager
from modelcluster.fields import ParentalKey
from taggit.models import TaggedItemBase
from wagtail.fields import RichTextField
from wagtail.models import Orderable, Page
from wagtail.snippets.models import register_snippet


@register_snippet
class Advert(models.Model):
    text = models.CharField(max_length=80)


class PageTag(TaggedItemBase):
    content_object = ParentalKey("HomePage", related_name="tagged", on_delete=models.CASCADE)


class HomePage(Page):
    intro = RichTextField(default="hello")
    advert = models.ForeignKey(Advert, null=True, on_delete=models.SET_NULL, related_name="+")
    tags = ClusterTaggableManager(through=PageTag, blank=True)


class Partner(Orderable):
    page = ParentalKey(HomePage, related_name="partners")
    name = models.CharField(max_length=80)
"""
TOLD = """
import json
from home.models import HomePage
print(json.dumps({p.title: [p.url_path, getattr(p, "intro", None), sorted(
    x.name for x in p.partners.all()) if hasattr(p, "partners") else []] for p in HomePage.objects.all()}))
"""

WORK = """
from django.contrib.auth.models import Group
from home.models import *
from wagtail.models import *
h = HomePage.objects.get(slug="home")
advert = Advert.objects.create(text="Wheel")
h.intro, h.advert = "new", advert
h.tags.add("dusk", "early")
h.save_revision().publish()
Partner.objects.create(page=h, name="Ada")
autumn = h.add_child(instance=HomePage(title="Autumn", slug="autumn", intro="x", advert=advert))
german = Locale.objects.create(language_code="de")
autumn.copy_for_translation(german, copy_parents=True)
HomePage.objects.filter(locale=german, slug__startswith="autumn").update(title="Herbst", draft_title="Herbst")
flow, task = Workflow.objects.create(name="Evenings"), GroupApprovalTask.objects.create(name="Look")
task.groups.add(Group.objects.first())
WorkflowTask.objects.create(workflow=flow, task=task, sort_order=0)
WorkflowPage.objects.create(workflow=flow, page=autumn)
"""
LIFE = """
from home.models import *
from taggit.models import Tag
from wagtail.models import *
HomePage.objects.get(slug="home").add_child(instance=HomePage(title="Live", slug="live"))
for name in ("of-live", "dusk"):
    Tag.objects.create(name=name, slug=name)
Locale.objects.create(language_code="fr")
flow = Workflow.objects.create(name="Of live")
WorkflowTask.objects.create(workflow=flow, task=GroupApprovalTask.objects.create(name="Live looks"), sort_order=0)
"""
MORE = """
import json
from home.models import HomePage
from taggit.models import Tag
from wagtail.models import Locale, Workflow
p, autumn = HomePage.objects.get(slug="home"), HomePage.objects.get(title="Autumn")
print(json.dumps([sorted(p.tags.names()), p.advert.text, autumn.advert_id == p.advert_id,
    autumn.get_workflow().name, [t.name for t in autumn.get_workflow().tasks],
    [t.name for t in Workflow.objects.get(name="Of live").tasks],
    autumn.get_translation(Locale.objects.get(language_code="de")).title,
    sorted(Locale.objects.values_list("language_code", flat=True)),
    sorted(Tag.objects.values_list("slug", flat=True))]))
"""


@unittest.skipIf(find_spec("wagtail") is None, "not installed: wagtail")
class Project(SiteTest):
    def database(self) -> dict[str, Any]:
        return {"ENGINE": "django.db.backends.sqlite3", "NAME": str(self.folder / "live" / "data" / "site.db")}

    def manage(self, folder: Path, *words: str) -> str:
        done = subprocess.run([sys.executable, "-W", "ignore", "manage.py", *words], cwd=folder, capture_output=True,
                              text=True, check=False)
        self.assertEqual(done.returncode, 0, done.stdout[-1000:] + done.stderr[-2000:])
        return done.stdout

    def told(self, folder: Path) -> Any:
        return json.loads(self.manage(folder, "shell", "-v0", "-c", TOLD).splitlines()[-1])

    def test_an_app_that_staging_changed_goes_home_with_its_migrations(self) -> None:
        live = self.folder / "live"
        (live / "data").mkdir(parents=True)
        subprocess.run([Path(sys.executable).parent / "wagtail", "start", "ridge", str(live)], check=True,
                       capture_output=True)
        address = f"http://127.0.0.1:{free_port()}"
        (live / "ridge" / "settings" / "local.py").write_text(
            f"DATABASES = {{'default': {self.database()!r}}}\nWAGTAILADMIN_BASE_URL = {address!r}\n"
            "WAGTAIL_I18N_ENABLED = True\n"
            "LANGUAGES = WAGTAIL_CONTENT_LANGUAGES = [('en-us', 'E'), ('de', 'German'), ('fr', 'French')]\n")
        self.manage(live, "migrate", "-v0")
        self.manage(live, "shell", "-v0", "-c", "from home.models import *; h = HomePage.objects.first(); "
                    "[h.add_child(instance=HomePage(title=t, slug=t.lower())) for t in ('One', 'Two')]")
        site = recognise(live)
        self.assertEqual((site.url, site.profile.name, site.uncopyable), (address, "wagtail", ""))
        port = free_port()
        h = Harbour(self.folder, live, f"http://127.0.0.1:{port}")
        self.assertEqual(h.standings(), {})
        (h.staging_folder / "home" / "models.py").write_text(MODELS)
        self.manage(h.staging_folder, "makemigrations", "home", "-v0")
        self.manage(h.staging_folder, "migrate", "-v0")
        self.manage(h.staging_folder, "shell", "-v0", "-c", WORK)
        self.manage(live, "shell", "-v0", "-c", LIFE)
        with self.served(h.staging_folder, port):
            self.assertIn("STAGING COPY of live: voyage trip", self.page(f"http://127.0.0.1:{port}/"))
        told = self.told(live)
        with self.served(live, int(address.rpartition(":")[2])), h.crew() as crew, mock.patch.dict(
                os.environ, {"PATH": f"{Path(sys.executable).parent}:{os.environ['PATH']}"}):
            self.page(address)
            _, found = rehearse(h.home, crew, Choice(), RehearsalOptions(command_of(crew.live), 9, 200))
        assert found is not None
        said = {p.path: (str(p.verdict), p.item) for p in found.pages}
        self.assertEqual({p: said[p][0] for p in ("/", "/one/", "/live/", "/autumn/")}, {
            "/": "same", "/one/": "same", "/live/": "same", "/autumn/": "new"})
        self.assertEqual((found.broke, found.holds, self.told(live)), (False, True, told))
        self.assertEqual([str(q.place) for q in h.compare().questions], [])
        h.merge()
        after = self.told(live)
        self.assertEqual({t: after[t] for t in ("One", "Two", "Live", "Autumn")}, {
            "One": ["/home/one/", "hello", []], "Two": ["/home/two/", "hello", []],
            "Live": ["/home/live/", "hello", []], "Autumn": ["/home/autumn/", "x", []]})
        self.assertEqual(json.loads(self.manage(live, "shell", "-v0", "-c", MORE).splitlines()[-1]), [
            ["dusk", "early"], "Wheel", True, "Evenings", ["Look"], ["Live looks"], "Herbst", ["de", "en-us", "fr"],
            ["dusk", "early", "of-live"]])
        self.manage(live, "migrate", "--check")
        self.manage(live, "makemigrations", "--check", "--dry-run")
        self.assertIn("No problems found", self.manage(live, "fixtree"))
        self.assertEqual([], [i for i in h.homeward() if "logentry" not in i])  # what was done in staging stays there
        with h.crew() as crew:
            merge(h.home, crew, prepare_undo(h.home, crew, to_take_back(h.home, "trip", None), schema=True))
        self.manage(live, "migrate", "--check")
        self.assertEqual(self.told(live), {
            title: [place, None, []] for title, place in {
                "Home": "/home/", "One": "/home/one/", "Two": "/home/two/", "Live": "/home/live/"}.items()})

    @contextmanager
    def served(self, folder: Path, port: int) -> Iterator[None]:
        with subprocess.Popen([sys.executable, "manage.py", "runserver", str(port), "--noreload"], cwd=folder,
                              stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL) as server:
            try:
                yield
            finally:
                server.terminate()

    @staticmethod
    def page(address: str) -> str:
        for _ in range(100):
            try:
                with urllib.request.urlopen(address, timeout=10) as said:
                    return str(said.read().decode())
            except OSError:
                sleep(0.2)
        raise AssertionError(f"{address} does not answer")


@unittest.skipIf(find_spec("wagtail") is None or missing(), missing() or "not installed: wagtail")
class OnPostgresql(Project):
    def database(self) -> dict[str, Any]:
        return {"ENGINE": "django.db.backends.postgresql", "NAME": postgres().new_database(), "USER": "live",
                "PASSWORD": PASSWORD, "HOST": "127.0.0.1", "PORT": postgres().port}


if __name__ == "__main__":
    unittest.main()
