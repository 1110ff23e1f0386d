"""Values: base URLs in all their forms, structures, and three-way merging of fields."""
import json
import unittest

from hypothesis import assume, given
from hypothesis import strategies as st

from nostos.core.values import structures
from nostos.core.values.merging import same
from nostos.core.values.packed import pack, unpack
from nostos.core.values.tokens import escape, unescape
from nostos.core.values.urls import UrlForms

LIVE, STAGING = "https://kestrel-ridge.example", "http://127.0.0.1:8432/copy"
FURTHER = {LIVE: "https://shop.kestrel-ridge.example", STAGING: "http://localhost:8432/shop"}


def across(text: str, one: str = LIVE, other: str = STAGING) -> str:
    """A text of one side on the other; the site has a further address on each."""
    there, here = (FURTHER.get(place, FURTHER[STAGING]) for place in (one, other))
    return unescape(UrlForms(other, also=(one,), further=[(here, there)]).from_tokens(
        UrlForms(one, further=[(there,)]).to_tokens(escape(text))))


class Urls(unittest.TestCase):
    def test_every_form(self) -> None:
        forms = {
            "https://kestrel-ridge.example/a": "http://127.0.0.1:8432/copy/a",
            "//kestrel-ridge.example/a": "//127.0.0.1:8432/copy/a",
            "see kestrel-ridge.example.": "see 127.0.0.1:8432/copy.",
            r'{"u":"https:\/\/kestrel-ridge.example\/a"}': r'{"u":"http:\/\/127.0.0.1:8432\/copy\/a"}',
            r"https:\\/\\/kestrel-ridge.example\\/a": r"http:\\/\\/127.0.0.1:8432\\/copy\\/a",
            "?u=https%3A%2F%2Fkestrel-ridge.example%2Fa": "?u=http%3A%2F%2F127.0.0.1%3A8432%2Fcopy%2Fa",
            "https://shop.kestrel-ridge.example/a": "http://localhost:8432/shop/a",
            "at shop.kestrel-ridge.example": "at localhost:8432/shop",
            "?u=https%3a%2f%2fkestrel-ridge.example%2fa": "?u=http%3a%2f%2f127.0.0.1%3a8432%2fcopy%2fa",
        }
        for live, staging in forms.items():
            with self.subTest(live):
                self.assertEqual(across(live), staging)
                self.assertEqual(across(staging, STAGING, LIVE), live)

    def test_others_are_left_alone(self) -> None:
        for text in ("https://kestrel-ridge.example.org", "https://kestrel-ridge.example:8080/",
                     "office@kestrel-ridge.example", "https://www.kestrel-ridge.example/", "my-kestrel-ridge.example"):
            self.assertEqual(across(text), text)

    def test_staging_below_live(self) -> None:
        below = LIVE + "/staging"
        self.assertEqual(across(f"{LIVE}/x", LIVE, below), f"{below}/x")
        self.assertEqual(UrlForms(LIVE).from_tokens(UrlForms(below, also=(LIVE,)).to_tokens(f"{below}/x {LIVE}/y")),
                         f"{LIVE}/x {LIVE}/y")

    @given(st.lists(st.sampled_from([
        LIVE, LIVE.replace("/", "\\/"), LIVE.replace(":", "%3A").replace("/", "%2F"), "//kestrel-ridge.example", "/",
        "a", ".", ":", "\\", "%2F", "kestrel-ridge.example", "@", "é", "\ufdd0", "\ufdd1", "u:o0u", " ",
        "shop.", "https://"]), max_size=12))
    def test_there_and_back(self, parts: list[str]) -> None:
        """Law 10, for every text that does not hold the other side's URL already."""
        text = "".join(parts)
        assume("127.0.0.1" not in text and "localhost" not in text)
        self.assertEqual(across(across(text), STAGING, LIVE), text)
        self.assertEqual(across(text, LIVE, LIVE), text)


trees = st.recursive(st.none() | st.booleans() | st.integers() | st.text(max_size=5),
                     lambda t: st.lists(t, max_size=3) | st.dictionaries(st.text(max_size=3), t, max_size=3))


class Structures(unittest.TestCase):
    @given(trees, st.sampled_from([(",", ":"), (", ", ": ")]), st.booleans(), st.booleans())
    def test_written_as_it_was(self, tree: object, separators: tuple[str, str], ascii_only: bool,
                               slashes: bool) -> None:
        assume(isinstance(tree, dict | list))
        text = json.dumps(tree, separators=separators, ensure_ascii=ascii_only)
        text = text.replace("/", "\\/") if slashes else text
        found = structures.read(text)
        assert found is not None
        self.assertEqual(found.text(), text)

    def test_numbers_keep_their_digits(self) -> None:
        for text in ("[1.10]", "[1e5,0.1]", '{"a":[1.00,{"b":-0.50}],"c":0.12345678901234567890}', "[1E+2]"):
            found = structures.read(text)
            assert found is not None
            self.assertEqual(found.text(), text)
            unpack(pack(structures.jsonable(found)))
        one, other = (structures.read(f"[0.123456789012345678{n}]") for n in (1, 2))
        self.assertFalse(same(one, other))
        self.assertTrue(same(structures.read("[1.10]"), structures.read("[1.100]")))

    def test_what_cannot_be_written_back_is_left_alone(self) -> None:
        for text in ('{"a":1,"a":2}', '{"a": 1,"b":2}', '["\ufdd31\ufdd3",1.10]', "NaN", "",
                     "[" * 500 + "]" * 500, "{'a':1}"):
            self.assertIsNone(structures.read(text), text)
