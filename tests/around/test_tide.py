"""The tide, held against a simulated site whose rates are known."""

import shutil
import unittest
from datetime import UTC, datetime, timedelta
from zoneinfo import ZoneInfo

from nostos.around.tide import HOURS, exposure, hour_of_week, interval, next_time, rate, read_time, tide
from nostos.core.errors import SiteError
from nostos.core.sites.recognise import recognise
from nostos.demo.past import ZONE, live_through, orders_an_hour
from nostos.demo.system import Observatory
from nostos.show.tides import figure
from tests.profiles.test_plain_database import library
from tests.support import SiteTest, template

NOW = datetime(2026, 11, 23, 12, tzinfo=UTC)


class Simulated(SiteTest):
    def setUp(self) -> None:
        super().setUp()
        shutil.copytree(template(), self.folder / "live")
        self.site = Observatory(self.folder / "live")

    def test_known_rates_are_found(self) -> None:
        weeks = 40
        written = live_through(self.site, weeks, NOW, seed=3, scale=1.0)
        found = tide(recognise(self.site.folder), weeks, 2, now=NOW)
        self.assertEqual(found.zone, ZONE)
        orders = next(c for c in found.counts if c.name == "orders")
        self.assertEqual(orders.total, written)
        self.assertEqual(found.sparse, "")
        held = 0
        for hour in range(HOURS):
            one = rate(orders.by_hour[hour], found.exposure[hour], 1)
            held += one.low <= orders_an_hour(hour) <= one.high
        self.assertGreater(held / HOURS, 0.85)  # 90 of 100, and chance
        by_truth = sorted(range(HOURS), key=lambda h: orders_an_hour(h) + orders_an_hour((h + 1) % HOURS))
        self.assertIn(found.windows[0].start, by_truth[:50])
        assert found.busiest is not None
        self.assertIn(found.busiest.start, by_truth[-8:])
        self.assertLess(found.windows[0].rates["orders"].high, found.busiest.rates["orders"].low)
        figure(found, self.folder / "tide.png")
        figure(found, self.folder / "tide.svg")
        self.assertTrue((self.folder / "tide.png").read_bytes().startswith(b"\x89PNG"))

    def test_too_little_is_said_to_be_too_little(self) -> None:
        live_through(self.site, 12, NOW, scale=0.05)
        self.assertIn("too little to tell the hours of the week apart", tide(
            recognise(self.site.folder), 12, now=NOW).sparse)
        self.assertIn("Only 1.0 weeks", tide(recognise(self.site.folder), 1, now=NOW).sparse)

    def test_what_cannot_be_asked(self) -> None:
        site = recognise(self.site.folder)
        for ask in ({"zone": "Nowhere/At_All"}, {"hours": 0}, {"weeks": 0}):
            with self.assertRaises(SiteError):
                tide(site, **ask)  # type: ignore[arg-type]
        library(self.folder / "books")
        with self.assertRaisesRegex(SiteError, "not known where"):
            tide(recognise(self.folder / "books"))


class Clocks(unittest.TestCase):
    def test_summer_time(self) -> None:
        zone = ZoneInfo(ZONE)
        # In the week of 2026-03-29 the clocks skip an hour, in that of 2026-10-25 one comes twice.
        for start, hour, times in ((datetime(2026, 3, 23, tzinfo=UTC), 1, 0),
                                   (datetime(2026, 10, 18, 23, tzinfo=UTC), 1, 2)):
            found = exposure(start, start + timedelta(weeks=1), zone)
            self.assertEqual(sum(found), HOURS)
            self.assertEqual(found[6 * 24 + hour], times)
        self.assertEqual(hour_of_week(datetime(2026, 7, 6, 23, 30, tzinfo=UTC), zone), 24)
        self.assertEqual(str(next_time(5, zone, NOW)), "2026-11-30 05:00:00+00:00")

    def test_times_as_databases_write_them(self) -> None:
        lisbon = ZoneInfo(ZONE)
        for value, expected in (("2026-07-01 12:00:00", "2026-07-01T11:00:00+00:00"), (1_782_907_200, "2026-07-01T12"),
                                ("2026-07-01T12:00:00Z", "2026-07-01T12:00:00+00:00"),
                                ("2026-07-01 12:00:00.123 +02:00", "2026-07-01T10:00:00+00:00")):
            moment = read_time(value, lisbon)
            assert moment is not None
            self.assertTrue(moment.isoformat().startswith(expected), (value, moment))
        for value in ("0000-00-00 00:00:00", "", None, "soon", 0, b"x", "2026-13-01 00:00:00", 1e300):
            self.assertIsNone(read_time(value, lisbon))

    def test_exact_intervals(self) -> None:
        # Chi-squared quantiles from tables: 2k and 2k+2 degrees of freedom, 5 and 95 in 100.
        for count, low, high in ((0, 0.0, 5.991 / 2), (1, 0.1026 / 2, 9.488 / 2), (5, 3.940 / 2, 21.026 / 2),
                                 (50, 77.929 / 2, 126.574 / 2)):
            found = interval(count)
            self.assertAlmostEqual(found[0], low, 2)
            self.assertAlmostEqual(found[1], high, 2)
        low, high = interval(5000)
        self.assertTrue(4880 < low < 4890 and 5115 < high < 5122)
