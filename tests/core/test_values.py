"""Values: base URLs in all their forms, structures, and three-way merging of fields."""
import json
import unittest

from hypothesis import assume, given
from hypothesis import strategies as st

from nostos.core.compare.field_merge import Standing, merge
from nostos.core.profiles.policies import Policy, policy_named
from nostos.core.values import structures
from nostos.core.values.merging import ABSENT, merge_sets, merge_text
from nostos.core.values.structures import Tree
from nostos.core.values.tokens import escape, unescape
from nostos.core.values.urls import UrlForms

LIVE, STAGING = "https://kestrel-ridge.example", "http://127.0.0.1:8432/copy"


def across(text: str, one: str = LIVE, other: str = STAGING) -> str:
    return unescape(UrlForms(other, also=(one,)).from_tokens(UrlForms(one).to_tokens(escape(text))))


class Urls(unittest.TestCase):
    def test_every_form(self) -> None:
        forms = {
            "https://kestrel-ridge.example/a": "http://127.0.0.1:8432/copy/a",
            "//kestrel-ridge.example/a": "//127.0.0.1:8432/copy/a",
            "see kestrel-ridge.example.": "see 127.0.0.1:8432/copy.",
            r'{"u":"https:\/\/kestrel-ridge.example\/a"}': r'{"u":"http:\/\/127.0.0.1:8432\/copy\/a"}',
            r"https:\\/\\/kestrel-ridge.example\\/a": r"http:\\/\\/127.0.0.1:8432\\/copy\\/a",
            "?u=https%3A%2F%2Fkestrel-ridge.example%2Fa": "?u=http%3A%2F%2F127.0.0.1%3A8432%2Fcopy%2Fa",
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
        "a", ".", ":", "\\", "%2F", "kestrel-ridge.example", "@", "é", "\ufdd0", "\ufdd1", "u:o0u", " "]), max_size=12))
    def test_there_and_back(self, parts: list[str]) -> None:
        """Law 10, for every text that does not hold the other side's URL already."""
        text = "".join(parts)
        assume("127.0.0.1" not in text)
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

    def test_what_cannot_be_written_back_is_left_alone(self) -> None:
        for text in ('{"a":1,"a":2}', '{"a": 1,"b":2}', "[1.00]", "NaN", "", "[" * 500 + "]" * 500, "{'a':1}"):
            self.assertIsNone(structures.read(text), text)


def standings(policy: Policy, base: object, live: object, staging: object) -> dict[str, str]:
    return {".".join(m.path): str(m.standing) for m in merge(policy, base, live, staging)}


class Fields(unittest.TestCase):
    def test_plain(self) -> None:
        for (base, live, staging), expected in {
                (1, 1, 2): "homeward", (1, 2, 1): "kept", (1, 2, 3): "clash", (1, 2, 2): "settled"}.items():
            self.assertEqual(standings(policy_named("plain"), base, live, staging), {"": expected})
        self.assertEqual(standings(policy_named("plain"), 1, 1, 1), {})
        self.assertEqual(standings(policy_named("plain"), 1, 1, 1.0), {"": "homeward"})

    def test_structures_merge_key_by_key(self) -> None:
        base = Tree({"colour": "red", "menu": {"top": 1}, "list": [1]})
        live = Tree({"colour": "red", "menu": {"top": 1, "foot": 2}, "list": [1]})
        staging = Tree({"colour": "blue", "menu": {"top": 3}, "list": [1, 2]})
        self.assertEqual(standings(policy_named("structure"), base, live, staging),
                         {"colour": "homeward", "menu.top": "homeward", "menu.foot": "kept", "list": "homeward"})
        self.assertEqual(standings(policy_named("structure"), base, Tree({**base.data, "colour": "green"}),
                                   staging)["colour"],
                         "clash")
        self.assertEqual([m.result for m in merge(policy_named("structure"), base, base, Tree({"colour": "red"}))],
                         [ABSENT, ABSENT])

    def test_sets(self) -> None:
        self.assertEqual(merge_sets(["a", "b"], ["b", "c"], ["a", "b", "d"]), ["b", "c", "d"])
        found = next(merge(policy_named("set"), Tree(["a"]), Tree(["a", "l"]), Tree(["s", "a"])))
        self.assertEqual((found.standing, found.result), (Standing.BLENDED, ["a", "l", "s"]))

    def test_newest(self) -> None:
        found = next(merge(policy_named("newest"), "2026-01", "2026-03", "2026-02"))
        self.assertEqual((found.standing, found.result), (Standing.BLENDED, "2026-03"))

    def test_texts_merge_by_paragraph(self) -> None:
        base = "one\n\ntwo\n\nthree\n"
        self.assertEqual(merge_text(base, base.replace("three", "3"), base.replace("one", "1")), "1\n\ntwo\n\n3\n")
        self.assertIsNone(merge_text(base, base.replace("two", "2"), base.replace("two", "zwei")))

    @given(*(st.lists(st.sampled_from("abcd"), max_size=6),) * 3)
    def test_texts_keep_both_sides(self, base: list[str], live: list[str], staging: list[str]) -> None:
        """Merging is the same from both sides, gives a side back where the other did nothing, and invents no line."""
        a, b, c = ("".join(f"{line}\n" for line in lines) for lines in (base, live, staging))
        self.assertEqual(merge_text(a, b, a), b)
        self.assertEqual(merge_text(a, a, c), c)
        merged = merge_text(a, b, c)
        self.assertEqual(merged, merge_text(a, c, b))
        if merged is not None:
            self.assertLessEqual(set(merged), set(b) | set(c))
