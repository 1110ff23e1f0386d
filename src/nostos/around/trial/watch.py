"""Watching live over a merge: its pages just before, and right after; what answered then and fails now is told."""

from __future__ import annotations

from collections.abc import Collection, Mapping, Sequence
from dataclasses import field, replace
from pathlib import Path
from tempfile import TemporaryDirectory
from time import monotonic

from nostos.around.trial.addresses import addresses
from nostos.around.trial.compare import Judged, PageFacts, Seen, Verdict, judge
from nostos.around.trial.page import Page, inside
from nostos.around.trial.pictures import Shots, photographed, small
from nostos.around.trial.visit import Pace, Visitor, may_follow
from nostos.core.anchor.open_voyage import Crew
from nostos.core.errors import SiteError
from nostos.core.plan.prepared import PreparedMerge
from nostos.core.progress import Listener, Progress, silent
from nostos.core.records import dataclass

_RATE = 8.0  # requests a second, as a trial's
_TIMEOUT_SECONDS = 10.0


@dataclass(frozen=True)
class WatchOptions:
    """How live is watched. most: pages. seconds: how long either round may take, about. paths: the only ones, if any.
    """

    most: int = 40
    seconds: float = 30.0
    paths: tuple[str, ...] = ()


@dataclass(frozen=True)
class Watched:
    """What became of live's pages. failing: those that answered before and fail now. visited: how many were held
    against how they were. shots: what they looked like before and after, if that was wanted."""

    visited: int
    failing: tuple[Judged, ...]
    shots: tuple[Shots, ...] = ()


@dataclass
class Watch:
    """A watch over one merge. url: live's. known: what is known of addresses. goes: addresses that go with the merge.
    further: live's further addresses."""

    url: str
    options: WatchOptions
    known: Mapping[str, PageFacts] = field(default_factory=dict)
    goes: Collection[str] = ()
    further: Sequence[str] = ()
    seen: dict[str, Seen] = field(default_factory=dict)
    asked: set[str] = field(default_factory=set)  # pictures, styles and scripts that were asked for before
    pictures: bool = False  # of the pages, as they looked before and after
    _folder: TemporaryDirectory[str] | None = None  # where they lie meanwhile; it goes with the watch
    _before: dict[str, Path] = field(default_factory=dict)

    def before(self, tell: Listener = silent) -> int:
        """Visit live's pages. Returns how many answered. Raises SiteError where live does not."""
        visitor = self._visitor()
        first = [*self.options.paths] or list(dict.fromkeys(["/", *self.known, *visitor.starts()]))
        try:
            judged_pages = self._round(visitor, first, not self.options.paths, tell, self.asked)
            if self.pictures:
                self._folder = TemporaryDirectory()
                self._before = photographed([p for p, s in judged_pages.items() if _answers(s.page)], visitor,
                                            Path(self._folder.name) / "before", tell)
        finally:
            visitor.close()
        if not any(_answers(s.page) for s in judged_pages.values()):
            why = next((s.page.failed for s in judged_pages.values() if s.page.failed), "answers with errors")
            raise SiteError(f"Live cannot be watched: {self.url} {why}.",
                            next_step="See that it answers from here, or leave --watch out.")
        self.seen = {path: s for path, s in judged_pages.items() if _answers(s.page)}
        return len(self.seen)

    def after(self, tell: Listener = silent, only: Collection[str] | None = None) -> Watched:
        """Visit the same pages again, or only some of them, and hold them against how they were."""
        visitor = self._visitor()
        paths = [p for p in self.seen if only is None or p in only]
        try:
            now = self._round(visitor, paths, False, tell, set())
            shots: list[Shots] = []
            if self._folder is not None and only is None:
                after_ = photographed([p for p in self._before if p in now], visitor,
                                      Path(self._folder.name) / "after", tell)
                shots = small(((p, self._before[p], to) for p, to in after_.items()), len(after_))
                self._folder.cleanup()
                self._folder = None
        finally:
            visitor.close()
        failing = []
        for path, after in now.items():
            if path in self.goes and after.page.status in (404, 410):
                continue
            facts = self.known.get(path, PageFacts())
            # What one round had no time to look at says nothing in the other.
            before = self.seen[path]
            missing = [a for a in after.missing if a in self.asked or a not in before.page.assets]
            dead = [d for d in after.dead if d not in self.goes]
            verdict = judge(before, replace(after, missing=tuple(missing), dead=tuple(dead)),
                          PageFacts(facts.item, facts.edited))
            if verdict.verdict is Verdict.BROKE:
                failing.append(replace(verdict, path=path))
        return Watched(len(now), tuple(failing), tuple(shots))

    def _visitor(self) -> Visitor:
        return Visitor(self.url, Pace(_RATE), timeout=_TIMEOUT_SECONDS,
                       further=dict(zip(self.further, self.further, strict=True)))

    def _round(self, visitor: Visitor, first: Sequence[str], onward: bool, tell: Listener, asked: set[str]
               ) -> dict[str, Seen]:
        until = monotonic() + self.options.seconds
        queue, pages = list(first), dict[str, Page]()
        waiting = set(queue)
        if onward:
            more = [p for p in visitor.sitemap(self.options.most) if p not in waiting]
            queue += more
            waiting.update(more)
        at = 0
        while at < len(queue) and len(pages) < self.options.most and (monotonic() < until or not pages):
            tell(Progress("watching", len(pages), min(len(queue), self.options.most), "pages"))
            page = pages[queue[at]] = visitor.page(queue[at])
            visitor.knows(page)
            at += 1
            for link in page.links if onward else ():
                if link not in waiting and may_follow(link):
                    waiting.add(link)
                    queue.append(link)
        visited = {}
        for path, page in pages.items():
            missing = []
            for asset in page.assets:
                if monotonic() >= until:
                    break
                status = visitor.answers(asset)
                asked.add(asset)
                if not 0 < status < 400 and status not in (401, 403, 405):
                    missing.append(asset)
            dead = tuple(link for link in page.links if link in pages and not _answers(pages[link]))
            visited[path] = Seen(page, tuple(missing), dead)
        return visited


def _answers(page: Page) -> bool:
    return not page.failed and 0 < page.status < 400


def watch_of(crew: Crew, prepared: PreparedMerge, options: WatchOptions) -> Watch:
    """A watch over a prepared merge: first the pages that it touches, then the others."""
    chosen = {i.id.partition("~")[0] for i in prepared.plan.selection.items}
    facts = addresses(crew, prepared.comparison, options.most)
    touched = {path: f for path, f in facts.items() if f.item in chosen}
    known = {path: PageFacts(f.item, path in touched) for path, f in {**touched, **facts}.items()
             if f.only != "staging"}
    goes = {path for path, f in touched.items() if f.only == "live"}
    return Watch(crew.live.url, options, known, goes, crew.live.further)


def paths_in(text: str, url: str, name: str) -> tuple[str, ...]:
    """The paths that a file names, one a line: paths, or addresses of the site. Raises SiteError for any other line."""
    paths = []
    for number, line in enumerate(text.splitlines(), start=1):
        line_text = line.strip()
        if not line_text or line_text.startswith("#"):
            continue
        path = inside(url, line_text) if "://" in line_text else line_text if line_text.startswith("/") else None
        if path is None:
            raise SiteError(f"Line {number} of {name} names no page of {url}.",
                            next_step="Write a path such as /visit a line, or an address of the site.")
        paths.append(path)
    if not paths:
        raise SiteError(f"{name} names no page.", next_step="Write a path such as /visit a line.")
    return tuple(dict.fromkeys(paths))
