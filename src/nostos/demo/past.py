"""A past for the observatory: weeks of orders, comments and members, at rates that are known."""

from __future__ import annotations

import json
import math
import random
from collections.abc import Iterator
from datetime import UTC, datetime, timedelta
from zoneinfo import ZoneInfo

from nostos.demo.system import Observatory

ZONE = "Europe/Lisbon"
_BUSY = {4: 1.5, 5: 2.0, 6: 1.3}  # Friday to Sunday


def orders_an_hour(start: int, scale: float = 1.0) -> float:
    """How many orders come in an hour of the week, 0 to 167 from Monday 0:00, by the site's own clocks."""
    day, hour = divmod(start, 24)
    evening = math.exp(-((hour - 20) / 3.5) ** 2) + 0.5 * math.exp(-((hour - 12) / 3) ** 2)
    return scale * (0.02 + evening * _BUSY.get(day, 1.0))


def moments(since: datetime, until: datetime, chance: random.Random, scale: float) -> Iterator[datetime]:
    """The times of orders: a Poisson process, hour by hour."""
    zone, moment = ZoneInfo(ZONE), since.replace(minute=0, second=0, microsecond=0)
    while moment < until:
        local_time = moment.astimezone(zone)
        left = orders_an_hour(local_time.weekday() * 24 + local_time.hour, scale)
        at = chance.expovariate(left)
        while at < 1:
            yield moment + timedelta(hours=at)
            at += chance.expovariate(left)
        moment += timedelta(hours=1)


def live_through(site: Observatory, weeks: int, until: datetime | None = None, seed: int = 7,
                 scale: float = 0.5) -> int:
    """Add the orders of so many weeks, and a comment to some of them. Returns how many orders."""
    chance = random.Random(seed)  # noqa: S311 - a made-up past
    until = until or datetime.now(UTC)
    count = 0
    with site.database_open() as db:
        db.execute("INSERT OR REPLACE INTO settings (name, value) VALUES ('time-zone', ?)", (json.dumps(ZONE),))
        page = db.execute("SELECT id FROM content WHERE kind='note' ORDER BY id").fetchone()["id"]
        for when in moments(until - timedelta(weeks=weeks), until, chance, scale):
            count += 1
            moment = when.isoformat(sep=" ", timespec="milliseconds")[:23]
            db.execute("INSERT INTO content (kind, slug, title, body, status, created, modified) "
                       "VALUES ('order', ?, 'Order of A Visitor', '', 'paid', ?, ?)",
                       (f"kr-p{count:05d}", moment, moment))
            if chance.random() < 0.08:
                db.execute("INSERT INTO comments (content_id, name, email, body, created) "
                           "VALUES (?, 'A Visitor', 'a@visitor.example', 'Clear skies!', ?)", (page, moment))
    return count
