"""When live is quiet: how much happens in each hour of the week, and the quietest windows for a merge.

What happened is counted by hour of the week in the site's own time zone. Each such hour is held against how often it
came in the period: where the clocks change, one came twice or not at all. The interval of a rate is the exact one for a
Poisson count (F. Garwood, "Fiducial limits for the Poisson distribution", Biometrika 28, 1936).
"""

from __future__ import annotations

import math
import re
from collections import Counter
from collections.abc import Iterable, Iterator, Mapping, Sequence
from datetime import UTC, datetime, timedelta, timezone, tzinfo
from zoneinfo import ZoneInfo, ZoneInfoNotFoundError

from nostos.core.database.protocol import Database, explaining
from nostos.core.database.schema import Table, Value
from nostos.core.errors import SiteError
from nostos.core.expressions import expression
from nostos.core.profiles.conditions import holds
from nostos.core.profiles.model import Profile
from nostos.core.profiles.parts import Activity
from nostos.core.progress import Listener, Progress, silent
from nostos.core.records import dataclass
from nostos.core.sites.recognise import Site
from nostos.core.values import structures

HOURS = 168  # of a week, from Monday 0:00
COVERED = 0.90
_FEW = HOURS  # fewer events than hours of the week cannot tell the hours apart
_TIME = expression(r"(\d{4})-(\d\d)-(\d\d)[ T](\d\d):(\d\d)(?::(\d\d))?(?:\.\d+)?\s*(Z|[+-]\d\d:?\d\d)?")


@dataclass(frozen=True)
class Rate:
    """How much happens: expected number in a window, and an interval that holds it in 90 of 100 cases."""

    expected: float
    low: float
    high: float


@dataclass(frozen=True)
class Counts:
    """What happened of one kind: a number for each hour of the week."""

    name: str
    visitors: bool
    by_hour: tuple[int, ...]

    @property
    def total(self) -> int:
        return sum(self.by_hour)


@dataclass(frozen=True)
class Window:
    """A stretch of the week. start: its first hour of the week. next: when it comes next, ISO 8601 with the offset.
    rates: of each kind of activity. all: of everything that visitors do."""

    start: int
    hours: int
    next: str
    rates: Mapping[str, Rate]
    all: Rate


@dataclass(frozen=True)
class Tide:
    """The activity of a site. since, until: the period, ISO 8601. exposure: how many hours of each hour of the week the
    period had. busiest: a window of the same length, for comparison. sparse: why nothing much can be said, if so.
    passed: times that could not be read.
    """

    site: str
    zone: str
    since: str
    until: str
    counts: tuple[Counts, ...]
    exposure: tuple[int, ...]
    windows: tuple[Window, ...]
    busiest: Window | None
    sparse: str
    passed: int


def tide(site: Site, weeks: int = 12, hours: int = 2, zone: str | None = None, now: datetime | None = None,
         most: int = 5, tell: Listener = silent) -> Tide:
    """Count what happened on a site. weeks: how far back. hours: the length of the windows looked for. zone: a name
    such as Europe/Lisbon; left out, the site's own setting. Raises SiteError when the profile names no times, or the
    zone is not known."""
    if not 1 <= hours <= 24 or not 1 <= weeks <= 520:
        raise SiteError("A window has 1 to 24 hours, and a period 1 to 520 weeks.", next_step="Choose other numbers.")
    until = (now or datetime.now(UTC)).replace(minute=0, second=0, microsecond=0)
    since = until - timedelta(weeks=weeks)
    database = site.open(readonly=True)
    try:
        with explaining(database), database.reading():
            tables = database.tables()
            profile = site.full_profile(tables)
            known = [a for a in profile.activities if a.table in tables]
            if not known:
                raise SiteError(f"It is not known where {site.name} keeps the times of what happens.",
                                next_step="Name them in a profile, as [[activity]]; docs/tide.md shows how.")
            place = _zone(zone, profile, database, tables)
            counts, passed, first = [], 0, until
            for activity in known:
                by_hour, bad, earliest = _count(database, tables[activity.table], activity, place, since, until, tell)
                counts.append(Counts(activity.name, activity.visitors, by_hour))
                passed += bad
                first = min(first, earliest)
    finally:
        database.close()
    since = max(since, first.replace(minute=0, second=0, microsecond=0))  # before that there was nothing to happen
    exposed = exposure(since, until, place)
    return Tide(site.name, str(place), since.isoformat(), until.isoformat(), tuple(counts), exposed,
                tuple(_windows(counts, exposed, hours, place, until, most)),
                next(_windows(counts, exposed, hours, place, until, 1, quiet=False), None),
                _sparse(counts, since, until), passed)


def exposure(since: datetime, until: datetime, zone: tzinfo) -> tuple[int, ...]:
    """How many hours of each hour of the week lie in a period, by the clocks of a zone."""
    per_hour = [0] * HOURS
    moment = since.astimezone(UTC)
    while moment < until:
        per_hour[hour_of_week(moment, zone)] += 1
        moment += timedelta(hours=1)
    return tuple(per_hour)


def hour_of_week(moment: datetime, zone: tzinfo) -> int:
    """0 to 167, from Monday 0:00, by the clocks of a zone."""
    local_time = moment.astimezone(zone)
    return local_time.weekday() * 24 + local_time.hour


def interval(count: int, covered: float = COVERED) -> tuple[float, float]:
    """The exact interval of a Poisson distribution's mean when this many were counted."""
    tail = (1 - covered) / 2
    low = 0.0 if count == 0 else _mean_where(count - 1, 1 - tail)
    return low, _mean_where(count, tail)


def _mean_where(count: int, wanted: float) -> float:
    """The mean at which at most `count` are seen with this probability."""
    low, high = 0.0, count + 20 * math.sqrt(count + 1) + 20
    for _ in range(80):
        middle = (low + high) / 2
        if _at_most(count, middle) > wanted:
            low = middle
        else:
            high = middle
    return (low + high) / 2


def _at_most(count: int, mean: float) -> float:
    """The probability that a Poisson variable is at most `count`: summed from its largest term down."""
    if mean <= 0:
        return 1.0
    term = math.exp(count * math.log(mean) - mean - math.lgamma(count + 1))
    total, k = 0.0, count
    if count > mean:  # from above, so that the small ones are not lost
        upper, term_up, j = 0.0, term, count
        while term_up > 1e-18 and j < count + 10_000:
            j += 1
            term_up *= mean / j
            upper += term_up
        return 1.0 - upper
    while k >= 0 and term > 1e-18:
        total += term
        term *= k / mean
        k -= 1
    return total


def rate(count: int, exposed: int, hours: int) -> Rate:
    """What is expected in a window of so many hours, when this many came in so many."""
    if not exposed:
        return Rate(0.0, 0.0, math.inf)
    low, high = interval(count)
    return Rate(count * hours / exposed, low * hours / exposed, high * hours / exposed)


def _windows(counts: Sequence[Counts], exposed: Sequence[int], hours: int, zone: tzinfo, now: datetime, most: int,
             quiet: bool = True) -> Iterator[Window]:
    """The quietest windows (or the busiest) by what visitors do, none over another; of equally quiet ones, those whose
    neighbours are."""
    visits = [sum(c.by_hour[h] for c in counts if c.visitors) for h in range(HOURS)]

    def within(start: int, values: Sequence[int], wider: int = 0) -> int:
        return sum(values[(start + n) % HOURS] for n in range(-wider, hours + wider))

    def busy(start: int) -> tuple[float, float]:
        return (within(start, visits) / max(within(start, exposed), 1),
                within(start, visits, 2) / max(within(start, exposed, 2), 1))

    taken: set[int] = set()
    best_sum = 0
    for start in sorted(range(HOURS), key=busy, reverse=not quiet):
        covers = {(start + n) % HOURS for n in range(hours)}
        if covers & taken or not within(start, exposed):
            continue
        taken |= covers
        best_sum += 1
        here = within(start, exposed)
        yield Window(start, hours, next_time(start, zone, now).isoformat(),
                     {c.name: rate(within(start, c.by_hour), here, hours) for c in counts},
                     rate(within(start, visits), here, hours))
        if best_sum == most:
            return


def next_time(start: int, zone: tzinfo, now: datetime) -> datetime:
    """When an hour of the week comes next, by the clocks of a zone."""
    moment = now.astimezone(UTC).replace(minute=0, second=0, microsecond=0)
    for _ in range(2 * HOURS + 2):
        moment += timedelta(hours=1)
        if hour_of_week(moment, zone) == start:
            break
    return moment.astimezone(zone)


def _sparse(counts: Sequence[Counts], since: datetime, until: datetime) -> str:
    total = sum(c.total for c in counts if c.visitors)
    weeks = (until - since).total_seconds() / 604800
    if weeks < 2:
        return f"Only {weeks:.1f} weeks are on record: hours of one week may have been quiet by chance."
    if total < _FEW:
        return (f"Visitors did {total} things in {weeks:.0f} weeks. That is too little to tell the hours of the week "
                "apart: the windows below are merely ones in which little happened.")
    return ""


def _count(database: Database, table: Table, activity: Activity, zone: tzinfo, since: datetime, until: datetime,
           tell: Listener) -> tuple[tuple[int, ...], int, datetime]:
    columns = list(dict.fromkeys([activity.time, *(c for c, _ in activity.where)]))
    counts: Counter[int] = Counter()
    passed, first = 0, until
    for number, values in enumerate(database.scan(table, columns)):
        if number % 10_000 == 0:
            tell(Progress(activity.name, number, None, "rows"))
        if activity.where and not holds(activity.where, dict(zip(columns, values, strict=True))):
            continue
        moment = read_time(values[0], zone if activity.local else UTC)
        if moment is None:
            passed += 1
            continue
        first = min(first, moment)
        if since <= moment < until:
            counts[hour_of_week(moment, zone)] += 1
    return tuple(counts[h] for h in range(HOURS)), passed, first


def read_time(value: Value, zone: tzinfo) -> datetime | None:
    """A time as databases write it: text, or seconds since 1970; None where it is none, a zero date among them."""
    try:
        if isinstance(value, int | float) and not isinstance(value, bool):
            return datetime.fromtimestamp(value, UTC) if value > 0 else None
        match = _TIME.match(value.strip()) if isinstance(value, str) else None
        if match is None:
            return None
        *parts, offset = match.groups()
        parsed = datetime(*(int(p or 0) for p in parts), tzinfo=zone)  # type: ignore[arg-type, misc]
        if offset:
            parsed = datetime.fromisoformat(parsed.replace(tzinfo=None).isoformat() + offset.replace("Z", "+00:00"))
        return parsed.astimezone(UTC)
    except (ValueError, OverflowError, OSError):
        return None


def _zone(name: str | None, profile: Profile, database: Database, tables: Mapping[str, Table]) -> tzinfo:
    if name is not None:
        zone = _zone_named(name)
        if zone is None:
            raise SiteError(f"There is no time zone called {name!r}.", next_step="Write it like Europe/Lisbon, or UTC.")
        return zone
    settings = profile.settings
    if settings is not None and settings.table in tables:
        for setting in profile.zone_settings:
            for row in database.find(tables[settings.table], {settings.name: setting}):
                zone = _zone_named(_plain(row.get(settings.value)))
                if zone is not None:
                    return zone
    return UTC


def _plain(value: Value) -> str:
    tree = structures.read(str(value)) if value is not None else None
    data = tree.data if tree is not None else value
    return str(data if data is not None else "").strip().strip('"')


def _zone_named(name: str) -> tzinfo | None:
    if re.fullmatch(r"[+-]?\d{1,2}(?:\.\d+)?", name):  # hours from UTC
        hours = float(name)
        return timezone(timedelta(hours=hours)) if -24 < hours < 24 else None
    try:
        return ZoneInfo(name) if name else None
    except (ZoneInfoNotFoundError, ValueError, OSError):
        return None


def label(start: int) -> str:
    """An hour of the week for people."""
    return f"{DAYS[start // 24]} {start % 24:02d}:00"


def visits(counts: Iterable[Counts]) -> list[int]:
    """What visitors did, together, by hour of the week."""
    some = [c for c in counts if c.visitors]
    return [sum(c.by_hour[h] for c in some) for h in range(HOURS)]


DAYS = ("Mon", "Tue", "Wed", "Thu", "Fri", "Sat", "Sun")
