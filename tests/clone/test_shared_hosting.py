"""One document root and little else: a copy inside live's own folder, and in one that a panel has filled."""

from nostos.around.survey import survey
from nostos.core.anchor.open_voyage import opened
from nostos.core.apply.merge import merge
from nostos.core.backup.archive import ArchiveReader
from nostos.core.backup.contents import read
from nostos.core.backup.write import backup
from nostos.core.clone.afresh import afresh
from nostos.core.clone.clone import clone
from nostos.core.clone.options import CloneOptions
from nostos.core.clone.remove import remove
from nostos.core.errors import SiteError
from nostos.core.plan.prepared import prepare
from nostos.core.sites.recognise import recognise
from nostos.core.voyages.home import Home
from nostos.demo.story import Story
from nostos.demo.system import Observatory
from tests.faults import killed
from tests.support import LIVE_URL, Harbour, SiteTest, state, template, tree


class InsideLive(SiteTest):
    def test_a_copy_below_lives_own_folder(self) -> None:
        near = Harbour(self.folder)
        home, trial = near.home, near.live_folder / "trial"
        story = Story(self.folder)
        before, looked = state(near.live_folder), survey(recognise(near.live_folder))
        clone(home, near.live_folder, "inside", trial, LIVE_URL + "/trial")
        self.assertEqual(survey(recognise(near.live_folder)).file_count, looked.file_count)
        self.assertEqual(near.standings(), {})  # nor does an older voyage see it
        clone(home, near.live_folder, "third", self.folder / "third", "http://third.example")
        self.assertFalse((self.folder / "third" / "trial").exists())
        made = backup(recognise(near.live_folder), self.folder / "site.tar.zst")
        self.assertEqual(made.files, looked.file_count)
        reader = ArchiveReader(made.path)
        self.assertNotIn("trial", {f.partition("/")[0] for f in read(reader).files})
        reader.close()

        with self.assertRaisesRegex(SiteError, "is a staging copy already"):
            clone(home, near.live_folder, "again", trial, LIVE_URL + "/again")
        inner = Harbour.__new__(Harbour)
        inner.home, inner.live_folder, inner.staging_folder = home, near.live_folder, trial
        story.staging_folder = trial
        story.work_on_staging()
        story.life_on_live()
        self.assertIn("page/autumn-programme", self.merged(inner))
        page = Observatory(near.live_folder).find("page", "autumn-programme")
        self.assertNotIn("/trial", page["body"])
        self.assertEqual([], remove(home, home.read("inside")))
        self.assertEqual(before[1].keys() - tree(near.live_folder).keys(), set())
        self.assertFalse(trial.exists())

    def merged(self, h: Harbour) -> list[str]:
        with opened(h.home, h.home.read("inside")) as crew:
            prepared = prepare(crew)
            merge(h.home, crew, prepared)
            return [c.item.id for c in prepared.plan.selection.chosen]


class Over(SiteTest):
    def setUp(self) -> None:
        super().setUp()
        self.home = Home(self.folder / "home")
        self.target = self.folder / "panel"
        (self.target / "cgi-bin").mkdir(parents=True)
        (self.target / "index.html").write_text("Your site will be here soon.")
        (self.target / ".hidden").write_text("kept")
        self.filled = tree(self.target)

    def clone(self) -> None:
        clone(self.home, template(), "trip", self.target, "http://staging.example", CloneOptions(over=True))

    def test_what_a_panel_has_filled_comes_back(self) -> None:
        with self.assertRaisesRegex(SiteError, "is not empty"):
            clone(self.home, template(), "trip", self.target, "http://staging.example")
        self.clone()
        self.assertFalse((self.target / "index.html").exists())
        afresh(self.home, self.home.read("trip"))
        self.assertEqual(recognise(self.target).url, "http://staging.example")
        self.assertEqual([], remove(self.home, self.home.read("trip")))
        self.assertEqual((self.filled, True), (tree(self.target), (self.target / "cgi-bin").is_dir()))

    def test_it_comes_back_after_a_crash(self) -> None:
        number, step = 1, 1
        while killed(self.clone, number) is None:
            if self.home.names():
                number_of = 0
                while killed(lambda: remove(self.home, self.home.read("trip")), number_of + 1) is None:
                    number_of += 3
                    if not self.home.names():
                        break
            self.assertEqual(self.filled, tree(self.target), number)
            number, step = number + step, step + 1
        remove(self.home, self.home.read("trip"))
        self.assertEqual(self.filled, tree(self.target))
