"""A sample of the points at which an operation may be killed; `make faults` walks them all."""

import unittest

from tests import stream
from tests.faults import VERBS, walk

_EVERY = 17


class Faults(unittest.TestCase):
    def test_killed_and_recovered(self) -> None:
        for number, verb in enumerate(VERBS, start=1):
            with self.subTest(verb):
                self.assertGreater(walk(verb, _EVERY, start=3 * number), 5)

    def test_a_full_disk_and_rights_that_are_gone(self) -> None:
        for number, verb in enumerate(VERBS, start=1):
            for fault in ("disk full", "no rights"):
                with self.subTest(verb, fault=fault):
                    self.assertGreater(walk(verb, 4 * _EVERY, start=7 * number, fault=fault), 1)

    def test_orders_all_the_while(self) -> None:
        found = stream.run(4)
        self.assertGreater(found.written, 20)
        self.assertEqual(found.lost, [])
        self.assertGreater(found.rounds, 0)
