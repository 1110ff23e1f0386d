"""Three versions of a field merged, and policies."""

from __future__ import annotations

import unittest
from random import Random
from unittest import mock

from hypothesis import given
from hypothesis import strategies as st

from nostos.core.compare.field_merge import Standing, merge
from nostos.core.profiles.policies import Policy, policy_named
from nostos.core.values import alignment
from nostos.core.values.merging import ABSENT, merge_sets, merge_text
from nostos.core.values.structures import StructuredValue


def standings(policy: Policy, base: object, live: object, staging: object) -> dict[str, str]:
    return {".".join(m.path): str(m.standing) for m in merge(policy, base, live, staging)}


class Fields(unittest.TestCase):
    def test_plain(self) -> None:
        for (base, live, staging), expected in {
                (1, 1, 2): "homeward", (1, 2, 1): "kept", (1, 2, 3): "clash", (1, 2, 2): "settled"}.items():
            self.assertEqual(standings(policy_named("plain"), base, live, staging), {"": expected})
        self.assertEqual(standings(policy_named("plain"), 1, 1, 1), {})
        self.assertEqual(standings(policy_named("plain"), 1, 1, 1.0), {"": "homeward"})

    def test_lists_whose_entries_have_ids_merge_entry_by_entry(self) -> None:
        def merged(base: object, live: object, staging: object) -> object:
            (found,) = merge(policy_named("structure"), *(StructuredValue({"cards": v}) for v in (base, live, staging)))
            return found.result if found.standing is not Standing.CLASH else None

        a, b, c = ({"id": n, "title": n, "shown": True} for n in "abc")
        mine, theirs = {**a, "title": "live's"}, {**a, "shown": False}
        both = {"id": "a", "title": "live's", "shown": False}
        self.assertEqual(merged([a, b], [b, mine], [theirs, b, c]), [b, both, c])  # moved, changed, added
        self.assertEqual(merged([a, b], [mine, b], [b]), None)  # removed on one side, changed on the other
        self.assertEqual(merged([a, b], [a], [theirs, b]), [theirs])
        self.assertEqual(merged([a], [mine], [{**a, "title": "staging's"}]), None)

    def test_structures_merge_key_by_key(self) -> None:
        base = StructuredValue({"colour": "red", "menu": {"top": 1}, "list": [1]})
        live = StructuredValue({"colour": "red", "menu": {"top": 1, "foot": 2}, "list": [1]})
        staging = StructuredValue({"colour": "blue", "menu": {"top": 3}, "list": [1, 2]})
        self.assertEqual(standings(policy_named("structure"), base, live, staging),
                         {"colour": "homeward", "menu.top": "homeward", "menu.foot": "kept", "list": "homeward"})
        self.assertEqual(standings(policy_named("structure"), base, StructuredValue({**base.data, "colour": "green"}),
                                   staging)["colour"],
                         "clash")
        self.assertEqual([m.result for m in merge(policy_named("structure"), base, base,
                                                  StructuredValue({"colour": "red"}))],
                         [ABSENT, ABSENT])

    def test_sets(self) -> None:
        self.assertEqual(merge_sets(["a", "b"], ["b", "c"], ["a", "b", "d"]), ["b", "c", "d"])
        found = next(merge(policy_named("set"), StructuredValue(["a"]), StructuredValue(["a", "l"]),
                           StructuredValue(["s", "a"])))
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

    @given(st.lists(st.sampled_from("abc")), st.lists(st.sampled_from("abc")), st.integers(0, 3))
    def test_what_is_alike_stands_in_one_order(self, one: list[str], other: list[str], most: int) -> None:
        for at_once in (most, 200_000):  # closely, and as long texts are
            with mock.patch.object(alignment, "_AT_ONCE", at_once):
                found = sorted(alignment.matches(one, other).items())
            self.assertTrue(all(one[n] == other[m] for n, m in found))
            self.assertEqual([m for _, m in found], sorted({m for _, m in found}))

    def test_long_texts_that_differ_everywhere_are_given_up(self) -> None:
        lines = ["<p>\n", "row\n", "cell\n", "</p>\n"]
        three = ["".join(Random(seed).choice(lines) for _ in range(20_000)) for seed in range(3)]
        self.assertIsNone(merge_text(*three))
        self.assertIsNone(merge_text(*three, lines=True))
