"""Pictures of pages on both sites, and how many of their pixels differ."""

from __future__ import annotations

import io
import re
import tempfile
from collections.abc import Iterable, Iterator, Mapping, Sequence
from concurrent.futures import ThreadPoolExecutor
from contextlib import ExitStack
from pathlib import Path
from time import monotonic

from nostos.around.trial.addresses import addresses
from nostos.around.trial.camera import Camera, browser, camera
from nostos.around.trial.compare import PageFacts
from nostos.around.trial.run import Options, Trial, visitors
from nostos.around.trial.visit import Visitor
from nostos.core.anchor.open_voyage import Crew
from nostos.core.compare.items import Comparison
from nostos.core.errors import SiteError
from nostos.core.progress import Listener, Progress, silent
from nostos.core.records import dataclass

_SEEN = 24  # of 255: a smaller difference is not seen
_MOST = 30  # pages of a trial
_ALL_OVER = 0.4  # of the pixels: where more differ, no frame says anything
_BLOCK = 16  # pixels, in which what differs is marked
# Widths of small pictures, with how well each is kept.
_FORMS = ((640, 60), (640, 40), (480, 40), (360, 35), (320, 25), (240, 20))
_ALL_BYTES = 6 << 20  # of the small pictures of one page: a third more as text


@dataclass(frozen=True)
class Pictured:
    """A page's pictures: live's, staging's, and one in which what differs is marked. share: of the pixels, 0 to 1."""

    path: str
    live: str
    staging: str
    difference: str
    share: float


@dataclass(frozen=True)
class Shots:
    """Small pictures of a page, as WebP: as it was, and as it is, with what differs framed in red; empty: it is not
    there. share: of the pixels that differ, 0 to 1."""

    path: str
    before: bytes
    after: bytes
    share: float


def take(trial: Trial, folder: Path, live: Visitor, staging: Visitor, tell: Listener = silent) -> list[Pictured]:
    """Take pictures of the pages that a trial saw on both sites, the most interesting first. Raises SiteError when no
    Chromium is installed or the folder cannot be used."""
    pages = [p.path for p in trial.pages if p.before and p.after][:_MOST]
    result = []
    with ExitStack() as stack:
        cameras = [stack.enter_context(camera(v)) for v in (live, staging)]
        try:
            folder.mkdir(parents=True, exist_ok=True)
        except OSError as error:
            raise SiteError(f"{folder} cannot be made: {error.strerror}.", next_step="Name another folder.") from error
        for number, path in enumerate(pages):
            tell(Progress("pictures", number, len(pages), "pages"))
            name = re.sub(r"[^A-Za-z0-9]+", "-", path).strip("-") or "front"
            shots = {side: folder / f"{name}-{side}.png" for side in ("live", "staging")}
            if all(c.photograph(url, to) for c, url, to in zip(
                    cameras, trial.urls(path), shots.values(), strict=True)):
                marked = folder / f"{name}-difference.png"
                share = difference(shots["live"], shots["staging"], marked)
                result.append(Pictured(path, str(shots["live"]), str(shots["staging"]), str(marked), share))
    return result


def photographed(paths: Sequence[str], visitor: Visitor, into: Path, tell: Listener = silent) -> dict[str, Path]:
    """Photograph pages of one site into a folder. Gives the pictures by path. Raises SiteError where no Chromium is
    installed."""
    into.mkdir(parents=True, exist_ok=True)
    shots = {}
    with camera(visitor) as shooting:
        for number, path in enumerate(paths):
            tell(Progress("pictures", number, len(paths), "pages"))
            to = into / f"{number}.png"
            if shooting.photograph(visitor.url(path), to):
                shots[path] = to
    return shots


def of_comparison(crew: Crew, comparison: Comparison, options: Options, tell: Listener = silent
                  ) -> list[tuple[PageFacts, Shots]]:
    """Pictures of a site's pages on live and in staging, first of those that somebody worked on. Raises SiteError where
    a site does not answer, or no Chromium is installed."""
    known = {"/": PageFacts(), **addresses(crew, comparison, options.most)}
    paths = sorted(known, key=lambda p: not (known[p].edited or known[p].only))[:options.most]
    browser()
    with visitors(crew, options) as (live, staging):
        return [(known[s.path], s) for s in both({p: known[p] for p in paths}, live, staging, options.minutes, tell)]


def both(pages: Mapping[str, PageFacts], live: Visitor, staging: Visitor, minutes: float, tell: Listener = silent
         ) -> list[Shots]:
    """Photograph pages on live and in staging; what is on one side alone, there. pages: by path, what is known of each.
    minutes: after which no more is begun. Raises SiteError where no Chromium is installed."""
    until = monotonic() + 60 * minutes
    with tempfile.TemporaryDirectory() as folder, ExitStack() as stack:
        cameras = [stack.enter_context(camera(v)) for v in (live, staging)]
        pool = stack.enter_context(ThreadPoolExecutor(2))

        def shot(camera_: Camera, visitor: Visitor, path: str, to: Path, on_staging: bool) -> Path | None:
            return to if on_staging and camera_.photograph(visitor.url(path), to) else None

        def taken() -> Iterator[tuple[str, Path | None, Path | None]]:
            for number, (path, known) in enumerate(pages.items()):
                if monotonic() > until:
                    return
                tell(Progress("pictures", number, len(pages), "pages"))
                on_staging, here = pool.map(shot, cameras, (live, staging), (path, path), (
                    Path(folder) / f"{number}-{n}.png" for n in (0, 1)),
                    (known.only != "staging", known.only != "live"))
                yield path, on_staging, here

        return small(taken(), len(pages))


def small(taken: Iterable[tuple[str, Path | None, Path | None]], number: int) -> list[Shots]:
    """Pairs of pictures made small, so that all of them stay within what a page may hold. taken: of so many pages, the
    path, and files as it was and as it is, which are removed."""
    most = _ALL_BYTES // max(1, 2 * number)
    smaller = []
    for path, before, after in taken:
        share = 1.0
        if before is not None and after is not None:
            share = difference(before, after, after, framed=True)
        data = [_shrunk(p, most) if p is not None else b"" for p in (before, after)]
        smaller.append(Shots(path, data[0], data[1], share))
        for file in (before, after):
            if file is not None:
                file.unlink()
    return smaller


def _shrunk(path: Path, most: int) -> bytes:
    from PIL import Image

    with Image.open(path) as picture:
        whole = picture.convert("RGB")
    data = b""
    for width, quality in _FORMS:
        out = io.BytesIO()
        whole.resize((width, max(1, whole.height * width // whole.width)), Image.Resampling.LANCZOS).save(
            out, "WEBP", quality=quality)
        data = out.getvalue()
        if len(data) <= most:
            break
    return data


def difference(one: Path, other: Path, to: Path, framed: bool = False) -> float:
    """Write the second picture, paled, with what differs from the first in red; framed: as it is, with red frames
    around that. Returns the share of pixels that differ, 0 to 1; pictures of different sizes are laid on one canvas."""
    import numpy as np
    from PIL import Image

    with Image.open(one) as a, Image.open(other) as b:
        size = max(a.width, b.width), max(a.height, b.height)
        both = []
        for picture in (a, b):
            canvas = Image.new("RGB", size, "white")
            canvas.paste(picture.convert("RGB"))
            both.append(np.asarray(canvas, dtype=np.int16))
    differs = np.abs(both[0] - both[1]).max(axis=2) > _SEEN
    if framed and differs.mean() > _ALL_OVER:
        marked, differs_shown = both[1].astype(np.uint8), np.zeros_like(differs)
    elif framed:
        high, wide = (-(-n // _BLOCK) for n in differs.shape)
        padded = np.zeros((high * _BLOCK, wide * _BLOCK), dtype=bool)
        padded[:differs.shape[0], :differs.shape[1]] = differs
        blocks = np.pad(padded.reshape(high, _BLOCK, wide, _BLOCK).any(axis=(1, 3)), 1)
        near = blocks[1:-1, 1:-1] | blocks[:-2, 1:-1] | blocks[2:, 1:-1] | blocks[1:-1, :-2] | blocks[1:-1, 2:]
        area = np.pad(np.kron(near, np.ones((_BLOCK, _BLOCK), dtype=bool))[:size[1], :size[0]], 3)
        inner = area[3:-3, 3:-3].copy()
        for dy, dx in ((0, 3), (6, 3), (3, 0), (3, 6)):
            inner &= area[dy:dy + size[1], dx:dx + size[0]]
        marked, differs_shown = both[1].astype(np.uint8), area[3:-3, 3:-3] & ~inner
    else:
        marked, differs_shown = (both[1] // 3 + 170).astype(np.uint8), differs
    marked[differs_shown] = (200, 30, 30)
    Image.fromarray(marked).save(to)
    return float(differs.mean())
