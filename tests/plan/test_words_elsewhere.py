"""Pages whose words lie three tables away, in a system that declares nothing and counts on by one in each of them: a
page goes home with its words, or it stays as it is on live."""

from __future__ import annotations

import random
import unittest
from collections.abc import Iterator

from nostos.core.apply.merge import merge
from nostos.core.learning.findings import add_answers
from nostos.core.plan.prepared import compare_voyage, prepare
from nostos.core.plan.selection import Choice
from tests.apply.test_live_differs import SmallTest
from tests.small import ENGINES, Small

SCHEMA = (
    "CREATE TABLE person (person_id {key}, name VARCHAR(60) NOT NULL, password VARCHAR(90), mail VARCHAR(80))",
    "CREATE TABLE author (author_id {key}, author_person INTEGER, author_name VARCHAR(60) NOT NULL)",
    "CREATE TABLE remark (remark_id {key}, remark_text VARCHAR(200) NOT NULL)",
    "CREATE TABLE page (page_id {key}, title VARCHAR(90) NOT NULL UNIQUE, is_new INTEGER, "
    "page_latest INTEGER NOT NULL)",
    "CREATE TABLE revision (rev_id {key}, rev_page INTEGER NOT NULL, rev_remark_id INTEGER NOT NULL, "
    "rev_author INTEGER NOT NULL, rev_timestamp VARCHAR(14), rev_parent_id INTEGER)",
    "CREATE INDEX by_page ON revision (rev_page, rev_timestamp)",
    "CREATE TABLE slots (slot_revision_id INTEGER NOT NULL, slot_role_id INTEGER NOT NULL, "
    "slot_content_id INTEGER NOT NULL, slot_origin INTEGER NOT NULL, PRIMARY KEY (slot_revision_id, slot_role_id))",
    "CREATE TABLE slot_roles (role_id {key}, role_name VARCHAR(30) NOT NULL)",
    "INSERT INTO slot_roles (role_name) VALUES ('main')",
    "CREATE TABLE content (content_id {key}, content_model INTEGER NOT NULL, "
    "content_address VARCHAR(90) NOT NULL)",
    "CREATE TABLE words (old_id {key}, old_words VARCHAR(200) NOT NULL)",
    *(f"INSERT INTO person (name, password, mail) VALUES ('U{n}', 'pbkdf2_sha256$1$ab$0123456789abcdef{n}', "
      f"'u{n}@x.example')" for n in range(1, 5)),
    *(f"INSERT INTO author (author_person, author_name) VALUES ({n}, 'U{n}')" for n in range(1, 5)))


def written(edits: list[tuple[str, str]], first: int, pages: dict[str, int], latest: dict[str, int]) -> Iterator[str]:
    """What the system would do for edits: a title and words each. first: their numbers begin with it."""
    for n, (title, words) in enumerate(edits, first):
        yield f"INSERT INTO words (old_words) VALUES ('{words}')"
        yield f"INSERT INTO content (content_model, content_address) VALUES (1, 'tt:{n}')"
        yield f"INSERT INTO remark (remark_text) VALUES ('edit of {title}')"
        if title not in pages:
            pages[title] = max(pages.values(), default=0) + 1
            yield f"INSERT INTO page (title, is_new, page_latest) VALUES ('{title}', 1, 0)"
        yield (f"INSERT INTO revision (rev_page, rev_remark_id, rev_author, rev_timestamp, rev_parent_id) VALUES "
               f"({pages[title]}, {n}, {1 + n % 4}, '20261101{n:06}', {latest.get(title, 0)})")
        yield f"INSERT INTO slots VALUES ({n}, 1, {n}, {n})"
        yield f"UPDATE page SET page_latest = {n} WHERE page_id = {pages[title]}"
        latest[title] = n


class WordsElsewhere(SmallTest):
    def shown(self, s: Small) -> dict[str, str]:
        address = "'tt:' || old_id" if s.engine != "mariadb" else "CONCAT('tt:', old_id)"
        return dict(s.sql("live", "SELECT title, old_words FROM page JOIN slots ON slot_revision_id = page_latest JOIN "
                                  f"content ON content_id = slot_content_id JOIN words ON content_address = {address}"))

    def test_a_page_goes_with_its_words_or_stays_as_it_is(self) -> None:
        chance = random.Random(3)
        before = [(f"Page {chr(97 + chance.randrange(24))}", f"Words of edit {n}") for n in range(70)]
        for engine in ENGINES:
            with self.subTest(engine):
                pages: dict[str, int] = {}
                latest: dict[str, int] = {}
                s = self.small(engine, (*SCHEMA, *written(before, 1, pages, latest)))
                for side, edits in (
                        ("staging", [("New", "In staging"), ("Page a", "Edited"), ("New", "In staging, again")]),
                        ("live", [(f"Live {n}", f"On live {n}") for n in range(4)])):
                    for statement in written(edits, 71, dict(pages), dict(latest)):
                        s.sql(side, statement)
                live = self.shown(s)
                with s.crew() as crew:
                    merge(s.home, crew, prepare(crew))
                self.assertEqual(live, self.shown(s))  # nothing in halves
                with s.crew() as crew:
                    found, _ = compare_voyage(crew)
                    said = {"revision.rev_parent_id": "revision", "slots.slot_origin": "revision",
                            "content.content_address/@tt": "words"}
                    self.assertEqual(said.keys(), {str(q.place) for q in found.questions})
                    add_answers(crew.answers, said, found.rows.target_tables)
                with s.crew() as crew:
                    merge(s.home, crew, prepare(crew, Choice(("page/*",))))
                self.assertEqual({**live, "New": "In staging, again", "Page a": "Edited"}, self.shown(s))


if __name__ == "__main__":
    unittest.main()
