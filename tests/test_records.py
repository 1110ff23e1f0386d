"""Records are what the standard library's dataclasses are, but for what makes them slow to make."""

import dataclasses
import unittest
from dataclasses import field
from typing import Any

from nostos.core.database.url import read_url
from nostos.core.records import dataclass as quick


def made(decorate: Any, **options: Any) -> Any:
    """A class of two fields that count and two that do not."""
    class Pair:
        a: int
        b: Any = None
        note: str = field(default="n", compare=False)
        secret: str = field(default="s", repr=False)

    Pair.__annotations__ = {"a": int, "b": object, "note": str, "secret": str}
    return decorate(**options)(Pair)


class Records(unittest.TestCase):
    def test_they_compare_hash_and_show_as_dataclasses_do(self) -> None:
        nan = float("nan")
        for frozen in (True, False):
            ours, theirs = (made(d, frozen=frozen) for d in (quick, dataclasses.dataclass))
            for one, other in (((1,), (1,)), ((1,), (2,)), ((1, nan), (1, nan)), ((1, 2, "x"), (1, 2, "y"))):
                self.assertEqual(ours(*one) == ours(*other), theirs(*one) == theirs(*other))
            self.assertEqual(repr(ours(1)), repr(theirs(1)))
            self.assertEqual(dataclasses.replace(ours(1), a=2), ours(2))
            self.assertNotEqual(ours(1), theirs(1))
            self.assertEqual(ours.__hash__ is None, theirs.__hash__ is None)
        self.assertEqual(hash(made(quick, frozen=True)(1)), hash(made(dataclasses.dataclass, frozen=True)(1)))

    def test_what_a_class_says_of_itself_stays(self) -> None:
        """A database's address hashes without its options' order, and shows no password."""
        one, other = read_url("mysql://u:secret@h/d?a=1&b=2"), read_url("mysql://u:secret@h/d?b=2&a=1")
        self.assertEqual(len({one, other}), 1)
        self.assertNotIn("secret", repr(one))


if __name__ == "__main__":
    unittest.main()
