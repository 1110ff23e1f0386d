"""A trial: both sites visited page by page, the pages judged; remembered, so that a later one can be held against
it."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterator
from concurrent.futures import ThreadPoolExecutor
from contextlib import contextmanager
from dataclasses import field, replace
from pathlib import Path
from time import monotonic

import msgspec

from nostos.around.trial.addresses import addresses
from nostos.around.trial.compare import (
    Judged,
    PageFacts,
    Seen,
    Verdict,
    alike_everywhere,
    frame_changes,
    judge,
    pieces_changed,
)
from nostos.around.trial.page import Page
from nostos.around.trial.visit import Access, Pace, Visitor, may_follow
from nostos.core.anchor.open_voyage import Crew
from nostos.core.clock import now
from nostos.core.errors import SiteError, VoyageError
from nostos.core.plan.prepared import compare_voyage
from nostos.core.plan.reading_order import is_of_the_whole_site
from nostos.core.private_files import make_private, write_private
from nostos.core.progress import Listener, Progress, silent
from nostos.core.records import dataclass
from nostos.core.values.packed import squeeze, unsqueeze
from nostos.core.voyages.home import Home, check_name

_AROUND = 12  # changes that are told
_AGAIN = 2  # more visits of a page that seems slower


@dataclass(frozen=True)
class Options:
    """How a trial goes. most: pages. rate: requests a second on each site. minutes: that it may take. entry: into
    staging."""

    most: int = 200
    rate: float = 8.0
    minutes: float = 60.0
    entry: Access = field(default_factory=Access)


@dataclass(frozen=True)
class VisitedPages:
    """What was seen on both sites, by path. when: ISO 8601. wide: somebody worked on something of the whole site."""

    when: str
    live: dict[str, Seen]
    staging: dict[str, Seen]
    known: dict[str, PageFacts]
    wide: bool = False


@dataclass(frozen=True)
class Trial:
    """The pages of a trial, judged, the worst first. against: the remembered one it was held against, if any. left:
    addresses that were found and not visited. everywhere: what changed around the text of many pages."""

    when: str
    live: str
    staging: str
    pages: tuple[Judged, ...]
    left: int = 0
    against: str = ""
    everywhere: tuple[str, ...] = ()
    further: tuple[tuple[str, str], ...] = ()  # further addresses, live's and staging's

    def urls(self, path: str) -> tuple[str, str]:
        """Where a page is on live, and where in staging."""
        for common, here in self.further:
            if path.startswith(f"{common}/"):
                return path, here + path[len(common):]
        return self.live + path, self.staging + path

    @property
    def broke(self) -> bool:
        return any(p.verdict is Verdict.BROKE for p in self.pages)


def visit(crew: Crew, options: Options, tell: Listener = silent) -> tuple[VisitedPages, int]:
    """Visit both sites. Returns what was seen, and how many addresses were left out. Raises SiteError when a site does
    not answer at all."""
    comparison, _ = compare_voyage(crew)
    known = addresses(crew, comparison, options.most)
    with visitors(crew, options) as (live, staging):
        seen, left = Round(live, staging, known, options.most, options.minutes, tell).run()
    wide = any(is_of_the_whole_site(i, comparison.rows.profile) for i in comparison.items.values() if i.goes_home)
    return replace(seen, wide=wide), left


@contextmanager
def visitors(crew: Crew, options: Options) -> Iterator[tuple[Visitor, Visitor]]:
    """Who visits live, and who visits staging. Raises SiteError when one of them does not answer."""
    addresses = crew.live.further
    live = Visitor(crew.live.url, Pace(options.rate), further=dict(zip(addresses, addresses, strict=True)))
    staging = Visitor(crew.staging.url, Pace(options.rate), options.entry, (crew.live.url,),
                      further=dict(zip(addresses, crew.staging.further, strict=True)))
    try:
        for visitor, what in ((live, "live"), (staging, "staging")):
            first = visitor.page("/")
            if first.failed or first.status in (401, 403):
                why = first.failed or ("asks for a password" if first.status == 401 else "refuses visitors")
                raise SiteError(f"The {what} site {why}: {visitor.base}.",
                                next_step="Start it, or say how to enter with --login or --cookie-file."
                                if what == "staging" else "See that it answers, then try again.")
        yield live, staging
    finally:
        live.close()
        staging.close()


class Round:
    """A round over the pages of two sites that answer for the same paths. minutes: after which no more is asked for."""

    def __init__(self, live: Visitor, staging: Visitor, known: dict[str, PageFacts], most: int, minutes: float,
                 tell: Listener) -> None:
        self.live, self.staging, self.known, self.most, self.tell = live, staging, known, most, tell
        self.until = monotonic() + 60 * minutes
        # First what somebody worked on: there may be more pages than are visited.
        first = sorted(known, key=lambda path: not (known[path].edited or known[path].only))
        self.queue = list(dict.fromkeys([*live.starts(), *first, *live.sitemap(most)]))
        self.waiting = set(self.queue)
        self.pages: dict[str, tuple[Page, Page]] = {}

    def run(self) -> tuple[VisitedPages, int]:
        at = 0
        with ThreadPoolExecutor(2) as pool:
            while at < len(self.queue) and len(self.pages) < self.most and monotonic() < self.until:
                path = self.queue[at]
                at += 1
                self.tell(Progress("visiting", len(self.pages), min(self.most, len(self.queue)), "pages"))
                live, staging = pool.map(lambda visitor, path=path: visitor.page(path), (self.live, self.staging))
                self.staging.knows(staging)
                self.live.knows(live)
                if staging.seconds > 2 * live.seconds and staging.seconds - live.seconds > 0.3:
                    live, staging = self.live.quickest(live, _AGAIN), self.staging.quickest(staging, _AGAIN)
                self.pages[path] = (live, staging)
                # Where it led is the same page; it is not visited once more.
                led = {p.moved for p in (live, staging) if p.moved}
                self.waiting |= led
                self.queue[at:] = [p for p in self.queue[at:] if p not in led]
                onward = dict.fromkeys(link for page in (live, staging) for link in page.links if may_follow(link))
                self.queue += [link for link in onward if link not in self.waiting]
                self.waiting |= onward.keys()
            seen = list(pool.map(self._seen, (self.live, self.staging), (0, 1)))
        return VisitedPages(now(), seen[0], seen[1], {p: self.known.get(p, PageFacts()) for p in self.pages}), (
            len(self.queue) - at)

    def _seen(self, visitor: Visitor, which: int) -> dict[str, Seen]:
        """What each page's pictures, styles, scripts and links are answered with."""
        pages = {}
        for number, (path, both) in enumerate(self.pages.items()):
            page = both[which]
            self.tell(Progress("pictures and links", number, len(self.pages), "pages"))
            missing = tuple(a for a in page.assets if not self._answers(visitor, a))
            dead = tuple(a for a in page.links if may_follow(a) and not self._answers(visitor, a))
            pages[path] = Seen(page, missing, dead)
        return pages

    def _answers(self, visitor: Visitor, path: str) -> bool:
        return monotonic() >= self.until or _good(visitor.answers(path))


def _good(status: int) -> bool:
    return 0 < status < 400 or status in (401, 403, 405)


def judged(crew: Crew, seen: VisitedPages, left: int = 0, against: tuple[str, VisitedPages] | None = None) -> Trial:
    """Judge what was seen: staging against live; or staging now against staging then, of a remembered trial."""
    pages = []
    # A page that broke is told once, not with every link that leads to it.
    places = {place for p, s in seen.staging.items() if p in seen.live and not _good(s.page.status)
            and _good(seen.live[p].page.status) for place in (p, seen.live[p].page.moved)}
    around: Counter[str] = Counter()
    changed: dict[str, frozenset[str]] = {}
    for path in seen.staging:
        known = seen.known.get(path, PageFacts())
        if against is None:
            before: Seen | None = seen.live[path]
        else:
            before = against[1].staging.get(path)
            known = PageFacts(known.item, known.edited and not against[1].known.get(path, PageFacts()).edited, "")
            if known.only == "live" or (before is None and seen.staging[path].page.status >= 400):
                continue
        after = seen.staging[path]
        verdict = judge(before, replace(after, dead=tuple(d for d in after.dead if d not in places)), known)
        pages.append(verdict)
        if before is not None and not known.only:
            changed[verdict.path] = pieces_changed(before.page, after.page)
        if before is not None and not known.only:
            around.update(frame_changes(before.page, after.page))
    if seen.wide and not (against is not None and against[1].wide):
        pages = alike_everywhere(pages, changed)
    worst = list(Verdict)
    pages.sort(key=lambda p: (worst.index(p.verdict), p.path))
    return Trial(seen.when, crew.live.url, crew.staging.url, tuple(pages), left, against[0] if against else "",
                 tuple(f"{what} ({n} of {len(pages)} pages)" for what, n in around.most_common(_AROUND)),
                 tuple(zip(crew.live.further, crew.staging.further, strict=True)))


def remember(home: Home, voyage: str, name: str, seen: VisitedPages) -> Path:
    """Keep what was seen under a name. Raises VoyageError for a name that cannot be one."""
    check_name(name)
    folder = home.folder(voyage) / "trials"
    make_private(folder)
    write_private(folder / f"{name}.msgpack.zst", squeeze(msgspec.to_builtins(seen)))
    return folder / f"{name}.msgpack.zst"


def remembered(home: Home, voyage: str, name: str) -> VisitedPages:
    """What was kept under a name. Raises VoyageError when there is nothing."""
    check_name(name)
    folder = home.folder(voyage) / "trials"
    try:
        return msgspec.convert(unsqueeze((folder / f"{name}.msgpack.zst").read_bytes()), VisitedPages)
    except FileNotFoundError:
        names = ", ".join(sorted(p.name.partition(".")[0] for p in folder.glob("*.zst"))) or "none"
        raise VoyageError(f"No trial was remembered as {name}.", next_step=f"There are: {names}.") from None
    except (msgspec.ValidationError, ValueError) as error:
        raise VoyageError(f"The trial {name} cannot be read.", next_step="Remember a new one.") from error
