"""What the core of the real PHP system writes by itself is closed: its own code is walked for names."""

from __future__ import annotations

import json
import re
import unittest
from collections.abc import Iterator
from pathlib import Path

from nostos.core.profiles.loader import built_in
from nostos.core.profiles.places import Place

CODE = Path("/usr/share/wordpress")
SET = r"(?:get|update|add|delete)_"
OPTIONS = re.compile(SET + r"(?:network_|site_)?option\(\s*(?:\$\w+,\s*)?'([\w-]+)'\s*[,)]")
METAS = re.compile(SET + r"(post|user|comment)_meta\(\s*[^,()]*(?:\([^()]*\))?[^,()]*,\s*'([\w-]+)'\s*[,)]")
OF_EXAMPLES = frozenset({"my_array", "my_option_name", "c", "manage", "url"})  # names in comments, and of others


def names(text: str) -> Iterator[tuple[str, str]]:
    """The names under which a file of the system keeps things, each with the table."""
    text = re.sub(r"(?s)/\*.*?\*/", "", text)
    yield from (("options", name) for name in OPTIONS.findall(text))
    yield from ((f"{table}meta", name) for table, name in METAS.findall(text))


@unittest.skipUnless(CODE.is_dir(), "not installed: WordPress")
class Closed(unittest.TestCase):
    def test_the_profile_names_all_that_the_core_writes(self) -> None:
        profile = built_in()["wordpress"]
        columns = {c.table: (c.column, c.key) for c in profile.closed if c.key}
        lacking, seen = set(), 0
        for path in sorted({*CODE.glob("*.php"), *CODE.glob("wp-includes/**/*.php"), *CODE.glob("wp-admin/**/*.php")}):
            for table, name in names(path.read_text(errors="replace")):
                column, key = columns[table]
                place = Place(table, column, ((key, name),), ("a", "path"))
                seen += 1
                if name not in OF_EXAMPLES and not any(c.holds(place) for c in profile.closed):
                    lacking.add((table, name))
        self.assertGreater(seen, 900)
        self.assertEqual(lacking, set())

    def test_the_profile_names_all_numbers_of_the_cores_blocks(self) -> None:
        profile = built_in()["wordpress"]
        texts = [r for r in profile.references if (r.table, r.column) == ("posts", "post_content")]
        lacking, seen = set(), 0
        for path in sorted(CODE.glob("wp-includes/blocks/*/block.json")):
            block = json.loads(path.read_text())
            for name, said in block.get("attributes", {}).items():
                if said.get("type") in ("number", "integer") and "source" not in said:
                    seen += 1
                    called = block["name"].removeprefix("core/")
                    step, text = f"@{name}@!wp:{called}", f'<!-- wp:{called} {{"kind":"post-type","{name}":7}} /-->'
                    place = Place("posts", "post_content", (), (step,))
                    if not any(r.path == (step,) or (r.pattern and re.search(r.pattern, text)) for r in texts) and not (
                            profile.closes(place, None)):
                        lacking.add(step)
        self.assertGreater(seen, 30)
        self.assertEqual(lacking, set())

    def test_what_others_write_is_not_closed(self) -> None:
        profile = built_in()["wordpress"]
        for table, column, key, name in (("options", "option_value", "option_name", "acme_front"),
                                         ("postmeta", "meta_value", "meta_key", "_acme_room")):
            self.assertFalse(any(c.holds(Place(table, column, ((key, name),))) for c in profile.closed))
        for step, closed in (("@level@!wp:heading", True), ("@id@!wp:acme.tour", False), ("@room@[tours", False),
                             ("@acmeRoom@!wp:heading", False)):
            place = Place("posts", "post_content", (), (step,))
            self.assertEqual(any(c.holds(place) for c in profile.closed), closed, step)


if __name__ == "__main__":
    unittest.main()
