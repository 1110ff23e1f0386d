"""`nostos learn`, and what compare and merge say of questions, as a user meets them."""

import json

from tests.plan.test_unknown import ShopTest
from tests.support import Program


class Learn(ShopTest):
    def test_questions_are_shown_asked_and_answered_once(self) -> None:
        run = Program(self.folder)
        found = run("learn", str(self.folder / "site"))
        self.assertEqual(found.returncode, 0, found.stderr)
        for said in ("ext_gallery_frame.gallery", "`gallery` is called as ext_gallery is", "Counts as visitors'",
                     "ext_shop_orders"):
            self.assertIn(said, found.stdout)
        compared = run("compare", "trip")
        self.assertEqual(compared.returncode, 1)
        self.assertGreater(compared.stdout.index("2 questions first"), compared.stdout.index("Would go home"))
        said = run("compare", "trip", "--standing", "open").stdout
        for line in ("it is not known what ext_gallery.frames", "Is it a row of content? In staging 20 is picture "
                     "'New'; on live it is note \"Live's own\"."):
            self.assertIn(line, said)
        merged = run("merge", "trip", "--leave", "*", "--dry-run")
        self.assertEqual(merged.returncode, 1)
        self.assertIn("it is not known what ext_gallery.frames points at", merged.stdout)
        wrong = run("learn", "trip", "--answer", "ext_gallery.nothing=content")
        self.assertEqual(wrong.returncode, 3)
        self.assertIn("there is no column ext_gallery.nothing", wrong.stderr)
        self.assertEqual(run("learn", "trip", "--answer", "ext_gallery").returncode, 3)
        some = run("learn", "trip", "--answer", "ext_gallery.frames=content", "--json")
        self.assertEqual(some.returncode, 1)
        self.assertEqual(len(json.loads(some.stdout)["questions"]), 1)
        self.assertEqual(run("learn", "trip", "--interactive", answer="\n").returncode, 1)  # not now
        asked = run("learn", "trip", "--interactive", "--save", "answers.toml", answer="1\n")
        self.assertEqual(asked.returncode, 0)
        self.assertIn("1 of 1. ext_gallery/5: 21 stands in", asked.stderr)
        self.assertEqual((self.folder / "answers.toml").read_text().count('= "content"'), 2)
        self.assertEqual(run("compare", "trip").returncode, 0)
        done = run("merge", "trip", "--yes")
        self.assertEqual(done.returncode, 0, done.stderr)
        self.assertIn("ext_gallery/5", done.stdout)

    def test_a_colleagues_answers(self) -> None:
        run = Program(self.folder)
        said = self.folder / "said.toml"
        said.write_text('visitors = ["ext_gallery*"]\n\n[answers]\n"ext_gallery.cover" = "content"\n')
        clone = ("clone", "site", "second", "--into", "second", "--url", "http://127.0.0.1:8499", "--with")
        self.assertEqual(run(*clone, "nowhere.toml").returncode, 3)
        said.with_name("wrong.toml").write_text("answer = 1\n")
        wrong = run(*clone, "wrong.toml")
        self.assertEqual(wrong.returncode, 3)
        self.assertIn("it says answer; known are answers, editors, made, visitors", wrong.stderr)
        self.assertEqual(run(*clone, "said.toml").returncode, 0)
        found = json.loads(run("compare", "trip", "--json").stdout)
        self.assertEqual(found["questions"], [])  # visitors' test data, of which nothing is asked
        shown = json.loads(run("learn", "second", "--json").stdout)
        self.assertEqual({(a["place"], a["to"]) for a in shown["answered"]}, {("ext_gallery.cover", "content")})
