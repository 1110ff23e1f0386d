"""A sample of the points at which an operation may be killed; `make faults` walks them all."""

import unittest

from tests.faults import walk

_EVERY = 17


class Faults(unittest.TestCase):
    def test_killed_and_recovered(self) -> None:
        for number, verb in enumerate(("merge", "refresh", "undo", "restore", "clone"), start=1):
            with self.subTest(verb):
                self.assertGreater(walk(verb, _EVERY, start=3 * number), 5)
