"""Comparing two visits of one page: what broke, what changed, what got slower."""

from __future__ import annotations

from collections import Counter
from collections.abc import Collection, Iterator, Mapping, Sequence
from dataclasses import replace
from enum import StrEnum
from urllib.parse import urlsplit

from nostos.around.trial.page import Page
from nostos.core.records import dataclass

_SLOWER, _SLOWER_SECONDS = 2.0, 0.3  # so many times, and at least so much
_HEAVIER_BYTES = 100_000
_SHOWN = 3
_MOST_LOST = 0.5  # of a page's words, where nobody edited it
_FEW = 20  # words
_FEWEST_PAGES = 3  # on which something changes alike
_CLOSED, _NOT_THERE = (401, 402, 403), (404, 410)  # https://www.rfc-editor.org/rfc/rfc9110#section-15.5


class Verdict(StrEnum):
    """What became of a page. `opened`: nobody could see it without a name or a password, and now everybody can.
    `expected`: it changed, and someone had edited it."""

    BROKE = "broke"
    OPENED = "opened"
    CHANGED = "changed"
    SLOWER = "slower"
    EXPECTED = "expected"
    NEW = "new"
    SAME = "same"


@dataclass(frozen=True)
class Seen:
    """A page with what else was found about it. missing: pictures, styles and scripts that are not there; dead: links
    that lead nowhere."""

    page: Page
    missing: tuple[str, ...] = ()
    dead: tuple[str, ...] = ()


@dataclass(frozen=True)
class Judged:
    """A page, what became of it, and why. item: what was edited, if it was. before, after: seconds."""

    path: str
    verdict: Verdict
    why: tuple[str, ...]
    item: str = ""
    before: float = 0.0
    after: float = 0.0


@dataclass(frozen=True)
class PageFacts:
    """What is known of an address: the item behind it; whether that was edited since; on which side alone it is."""

    item: str = ""
    edited: bool = False
    only: str = ""  # "live", "staging" or neither


def judge(before: Seen | None, after: Seen | None, known: PageFacts) -> Judged:
    """Judge a page by how it was (None: it was not visited there) and how it is."""
    page = (after or before or _nothing()).page
    if page.moved and "://" not in page.moved:
        page = replace(page, path=page.moved)
    times = (before.page.seconds if before else 0.0, after.page.seconds if after else 0.0)
    if after is None:
        return Judged(page.path, Verdict.EXPECTED, ("not in staging: live has gained it since",), known.item, *times)
    if known.only == "live":
        why = "removed in staging" if known.edited else "not in staging: live has gained it since"
        return Judged(page.path, Verdict.EXPECTED, (why,), known.item, *times)
    if before is None or known.only == "staging":
        broken = list(_alone(after))
        return Judged(page.path, Verdict.BROKE if broken else Verdict.NEW, tuple(broken) or ("new in staging",),
                      known.item, *times)
    broken = list(_broken(before, after, known.edited))
    changed = list(_changed(before.page, after.page))
    slow = times[1] > times[0] * _SLOWER and times[1] - times[0] > _SLOWER_SECONDS
    slower = [f"takes {times[1]:.1f} s, took {times[0]:.1f} s"] if slow else []
    sizes = before.page.size, after.page.size
    if sizes[1] > sizes[0] * _SLOWER and sizes[1] - sizes[0] > _HEAVIER_BYTES:
        slow = True
        slower.append(f"weighs {sizes[1] / 1000:,.0f} kB, weighed {sizes[0] / 1000:,.0f} kB")
    opened = list(_opened(before.page, after.page))
    if broken:
        verdict = Verdict.BROKE
    elif opened and not (known.edited and before.page.status in _NOT_THERE):
        verdict = Verdict.OPENED
    elif changed and not known.edited:
        verdict = Verdict.CHANGED
    elif slow:
        verdict = Verdict.SLOWER
    else:
        verdict = Verdict.EXPECTED if changed or opened else Verdict.SAME
    return Judged(page.path, verdict, (*broken, *opened, *changed, *slower), known.item, *times)


def _nothing() -> Seen:
    return Seen(Page("", 0))


def _alone(seen: Seen) -> Iterator[str]:
    """What is wrong with a page by itself."""
    page = seen.page
    if page.failed:
        yield f"it {page.failed}"
    elif page.status >= 400:
        yield f"answered with {page.status}"
    yield from (f"prints an error: {e}" for e in page.errors[:_SHOWN])
    yield from _some("missing", seen.missing)
    yield from _some("leads nowhere", seen.dead)


def _broken(before: Seen, after: Seen, edited: bool) -> Iterator[str]:
    then, now = before.page, after.page
    if now.failed:
        if not then.failed:
            yield f"it {now.failed}"
        return
    if now.status >= 400 and (then.status < 400 or (now.status >= 500 > then.status)):
        yield f"answered with {now.status}, was {then.status}"
    if _away(now) and not _away(then) and not then.failed:
        yield f"leads away, to {now.moved}"
    if then.whole and not now.whole and now.status < 400:
        yield "is cut off: its HTML does not come to an end"
    new = [e for e in now.errors if e not in then.errors]
    yield from (f"prints an error: {e}" for e in new[:_SHOWN])
    if len(new) > _SHOWN:
        yield f"and {len(new) - _SHOWN} more errors"
    yield from _some("missing", _gained(before.missing, after.missing))
    yield from _some("leads nowhere", _gained(before.dead, after.dead))
    if now.status < 400:
        opened = then.asks and not now.asks  # that its form is gone is the least of it
        gone = [f for f in then.forms if f not in now.forms and not opened]
        yield from (f"a form is gone: {f}" for f in gone[:_SHOWN])
        if then.title and not now.title:
            yield "its title is gone"
        words, lost = _words(then), _words(then) - _words(now)
        total, missing = sum(words.values()), sum(lost.values())
        if total > _FEW and missing > total * (_MOST_LOST if not edited else 0.9):
            yield f"lost {missing} of {total} words"


def _away(page: Page) -> bool:
    """Whether a page leads out of the site; a further address of the site is named whole."""
    parts = urlsplit(page.path)
    origin = f"{parts.scheme}://{parts.netloc}/" if parts.netloc else ""
    return "://" in page.moved and not (origin and page.moved.startswith(origin))


def _opened(then: Page, now: Page) -> Iterator[str]:
    """Why a visitor who is nobody sees now what could not be seen."""
    if not 0 < now.status < 400 or now.asks or _away(now):
        return
    if then.status in (*_NOT_THERE, *_CLOSED):
        yield f"anybody can see it now: it was answered with {then.status}"
    elif then.asks and then.status < 400:
        yield "anybody can see it now: a password was asked for"


def _changed(then: Page, now: Page) -> Iterator[str]:
    if now.status != then.status and now.status < 400:
        yield f"answered with {now.status}, was {then.status}"
    if now.moved != then.moved and not _away(now):
        yield f"leads to {now.moved or now.path}, led to {then.moved or then.path}"
    if now.title != then.title and now.title:
        yield f"title: {now.title!r}, was {then.title!r}"
    if now.status >= 400:
        return
    gone = [h for h in then.headings if h not in now.headings]
    yield from (f"heading gone: {h!r}" for h in gone[:_SHOWN])
    lost, gained = (list((Counter(a.lines) - Counter(b.lines)).elements()) for a, b in ((then, now), (now, then)))
    if lost or gained:
        less, more = (sum(len(line.split()) for line in some) for some in (lost, gained))
        sample = "; ".join(repr(line[:80]) for line in (lost or gained)[:2])
        yield f"text: words gone {less}, new {more}, such as {sample}"


def frame_changes(then: Page, now: Page) -> Iterator[str]:
    """What changed around a page's text: headings and menu entries."""
    if now.status < 400 and then.status < 400 and not now.failed:
        yield from (f"gone: {h!r}" for h in then.frame if h not in now.frame)
        yield from (f"new: {h!r}" for h in now.frame if h not in then.frame)


def pieces_changed(then: Page, now: Page) -> frozenset[str]:
    """What changed on a page, piece by piece, so that pages can be held against one another: lines, headings, and the
    words of its title."""
    differing = set(frame_changes(then, now))
    for sign, a, b in (("-", then, now), ("+", now, then)):
        differing |= {f"{sign}{line}" for line in Counter(a.lines) - Counter(b.lines)}
        differing |= {f"{sign}{heading}" for heading in a.headings if heading not in b.headings}
        differing |= {f"{sign}title {word}" for word in Counter(a.title.split()) - Counter(b.title.split())}
    return frozenset(differing)


def alike_everywhere(pages: Sequence[Judged], changed: Mapping[str, frozenset[str]]) -> list[Judged]:
    """The pages, with those as expected on which nothing changed but what changed on most. changed: by path, of the
    pages that were seen on both sides, the pieces that changed."""
    seen = Counter(piece for pieces in changed.values() for piece in pieces)
    most = {piece for piece, n in seen.items() if n >= _FEWEST_PAGES and n > len(changed) / 2}
    return [replace(p, verdict=Verdict.EXPECTED, why=("changed as most pages do, for something of the whole site does",
                                                      *p.why))
            if p.verdict is Verdict.CHANGED and changed.get(p.path) and changed[p.path] <= most else p for p in pages]


def _words(page: Page) -> Counter[str]:
    return Counter(word for line in page.lines for word in line.split())


def _gained(before: Collection[str], after: Collection[str]) -> tuple[str, ...]:
    return tuple(a for a in after if a not in before)


def _some(what: str, names: Collection[str]) -> Iterator[str]:
    if names:
        more = f" and {len(names) - _SHOWN} more" if len(names) > _SHOWN else ""
        yield f"{what}: {', '.join(list(names)[:_SHOWN])}{more}"


def count(judged: Collection[Judged]) -> Mapping[Verdict, int]:
    """How many pages became what, worst first."""
    counts = Counter(j.verdict for j in judged)
    return {v: counts[v] for v in Verdict if counts[v]}
