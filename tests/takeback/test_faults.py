"""A sample of the points at which an operation may be killed; `make faults` walks them all."""

import shutil
import tempfile
import unittest
from pathlib import Path

from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from nostos.core.apply.merge import merge
from nostos.core.plan.prepared import prepare
from nostos.core.takeback.recover import recover
from nostos.core.takeback.undo import prepare_undo, to_take_back
from tests import stream
from tests.apply.test_laws import EXAMPLES, PHASES, Step, steps, take
from tests.faults import VERBS, broken, walk
from tests.support import Harbour, dangling, rows, state

_EVERY = 17
FAULTS = ("killed", "power cut", "disk full", "no rights")


class Faults(unittest.TestCase):
    def test_killed_and_recovered(self) -> None:
        for number, verb in enumerate(VERBS, start=1):
            with self.subTest(verb):
                self.assertGreater(walk(verb, _EVERY, start=3 * number), 5)

    def test_the_power_is_cut(self) -> None:
        for number, verb in enumerate(VERBS, start=1):
            with self.subTest(verb):
                self.assertGreater(walk(verb, 2 * _EVERY, start=5 * number, fault="power cut"), 3)

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


class Random(unittest.TestCase):
    """Work, stops, faults and visitors as they come."""

    @settings(max_examples=EXAMPLES // 4, deadline=None, phases=PHASES, suppress_health_check=list(HealthCheck))
    @given(steps, steps, steps, st.integers(1, 120), st.sampled_from(FAULTS), st.sampled_from(("merge", "undo")))
    def test_whatever_stops_it(self, on_live: list[Step], on_staging: list[Step], since: list[Step], number: int,
                               fault: str, verb: str) -> None:
        folder = Path(tempfile.mkdtemp(prefix="nostos-stop-"))
        self.addCleanup(shutil.rmtree, folder, ignore_errors=True)
        h = Harbour(folder)
        for side, site, done in (("s", h.staging, on_staging), ("l", h.live, on_live)):
            for step in done:
                take(site, side, step)
        if verb == "undo":
            if not h.merge().id:
                return
            for step in since:
                take(h.live, "n", step)
        before, already = state(h.live_folder), dangling(h.live.database)
        visited = visits(h)

        def work() -> None:
            with h.home.lock("trip"), h.crew() as crew:
                merge(h.home, crew, prepare(crew) if verb == "merge" else prepare_undo(
                    h.home, crew, to_take_back(h.home, "trip", None)))

        ended = broken(work, number, fault)
        for step in since if verb == "merge" else ():  # live goes on before anyone recovers
            take(h.live, "n", step)
        visited |= visits(h)
        recover(h.home)
        if ended.how == "refused" and (verb == "undo" or not since):
            self.assertTrue(before == state(h.live_folder))
        self.assertEqual(visited - visits(h), set())  # law 8: no order, comment or member is lost
        self.assertEqual([d for d in dangling(h.live.database) if d not in already], [])
        self.assertEqual(recover(h.home), [])
        if verb == "merge":
            h.merge()  # whatever had become of it, it can be done, and then nothing is left to do
            self.assertEqual([i for i in h.homeward() if i.partition("/")[0] not in ("order", "comment", "member")], [])
            self.assertEqual(visited - visits(h), set())


def visits(h: Harbour) -> set[tuple[object, ...]]:
    """What visitors did on live, as it must stay."""
    path = h.live.database
    return {("order", *r) for r in rows(path, "SELECT id, slug, title FROM content WHERE kind='order'")} | {
        ("line", *r) for r in rows(path, "SELECT * FROM order_lines")} | {
        ("comment", *r) for r in rows(path, "SELECT id, name, body FROM comments WHERE name LIKE 'Visitor%'")} | {
        ("member", *r) for r in rows(path, "SELECT id, login, name FROM members")}
