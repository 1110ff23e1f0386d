"""What is one thing and what is two, where both sides made something since the clone."""

from __future__ import annotations

from nostos.core.clone.clone import clone
from nostos.core.compare.joins import Joins
from nostos.core.profiles.model import Profile
from nostos.core.profiles.parts import Join
from nostos.core.sites.recognise import recognise
from tests.apply.test_live_differs import SmallTest


class SameThing(SmallTest):
    def test_one_name_with_another_file_is_another_thing(self) -> None:
        s = self.small("sqlite", ("CREATE TABLE upload (id {key}, name VARCHAR(20), lies_at VARCHAR(40))",),
                       'editors = ["upload"]\n[[kind]]\nname = "upload"\ntable = "upload"\nlabel = "name"\n'
                       'identity = ["name"]\n[[file]]\ncolumn = "upload.lies_at"\nfolder = "media"\n')
        for side, folder in (("live", s.live_folder), ("staging", s.staging_folder)):
            s.sql(side, f"INSERT INTO upload (name, lies_at) VALUES ('sky', '{side}.png')")
            (folder / "media").mkdir()
            (folder / "media" / f"{side}.png").write_text(side)
        s.merge("*")
        self.assertEqual([("sky", "live.png"), ("sky", "staging.png")], s.sql(
            "live", "SELECT name, lies_at FROM upload ORDER BY lies_at"))

    def test_what_is_born_on_one_side_is_not_looked_up_on_the_other(self) -> None:
        """A remark on a page that staging removed again: live's page of that number tells nothing of it."""
        s = self.small("sqlite", ("CREATE TABLE page (id {key}, sort VARCHAR(20))",
                                  "CREATE TABLE remark (id {key}, page_id INTEGER)"), 'editors = ["page"]\n')
        s.sql("live", "INSERT INTO page (sort) VALUES ('news')")
        here, there = (recognise(str(f)).open(readonly=True) for f in (s.staging_folder, s.live_folder))
        self.addCleanup(here.close)
        self.addCleanup(there.close)
        profile = Profile("x", "X", joins=(Join("remark", "of", "page", (("page_id", "id"),), "sort"),))
        for known, told in ((True, "news"), (False, None)):
            joins = Joins(profile, here, here.tables(), there, lambda table, key, known=known: known)
            self.assertEqual({"of": told}, joins("remark", {"id": 1, "page_id": 1}))

    def test_one_made_anew_for_two_is_neither(self) -> None:
        s = self.small("sqlite", ("CREATE TABLE sign (id {key}, name VARCHAR(20), words VARCHAR(40))",
                                  "INSERT INTO sign (name, words) VALUES ('exit', 'north'), ('exit', 'south')"),
                       'editors = ["sign"]\n[[kind]]\nname = "sign"\ntable = "sign"\nlabel = "name"\n'
                       'identity = ["name"]\n')
        s.sql("staging", "DELETE FROM sign")
        s.sql("staging", "INSERT INTO sign VALUES (7, 'exit', 'east')")
        s.sql("live", "UPDATE sign SET words = 'north, by the stairs' WHERE id=1")
        self.assertEqual(sorted(s.standings().values()), ["clash", "homeward", "homeward"])
        s.merge("*")
        self.assertEqual([("east",), ("north, by the stairs",)], s.sql("live", "SELECT words FROM sign ORDER BY words"))

    def test_a_copy_of_a_copy_says_which_it_is_of(self) -> None:
        s = self.small("sqlite", ("CREATE TABLE page (id {key}, title VARCHAR(20))",))
        clone(s.home, str(s.staging_folder), "inner", str(self.folder / "inner"), "http://127.0.0.1:8433")
        self.assertEqual([s.home.read(n).live_name for n in ("trip", "inner")], ["small", "the staging of voyage trip"])
