"""Pictures of pages on both sites, and how many of their pixels differ."""

from __future__ import annotations

import re
import shutil
import subprocess
import tempfile
from dataclasses import dataclass
from pathlib import Path

from nostos.core.errors import SiteError
from nostos.core.inspect.trial.run import Trial
from nostos.core.progress import Listener, Progress, silent

_NAMES = ("chromium", "chromium-browser", "google-chrome")
_SIZE = (1280, 1600)
_SEEN = 24  # of 255: a smaller difference is not seen
_MOST = 30  # pages
_TIMEOUT_SECONDS = 60


@dataclass(frozen=True)
class Pictured:
    """A page's pictures: live's, staging's, and one in which what differs is marked. share: of the pixels, 0 to 1."""

    path: str
    live: str
    staging: str
    difference: str
    share: float


def take(found: Trial, folder: Path, tell: Listener = silent) -> list[Pictured]:
    """Take pictures of the pages that a trial saw on both sites, the most interesting first. Raises SiteError when no
    Chromium is installed or the folder cannot be used."""
    browser = next((b for b in map(shutil.which, _NAMES) if b), None)
    if browser is None:
        raise SiteError("No Chromium is installed, so no pictures can be taken.",
                        next_step="Install it (on Debian: apt-get install chromium), or leave --pictures out.")
    try:
        folder.mkdir(parents=True, exist_ok=True)
    except OSError as error:
        raise SiteError(f"{folder} cannot be made: {error.strerror}.", next_step="Name another folder.") from error
    pages = [p for p in found.pages if p.before and p.after][:_MOST]
    result = []
    for number, page in enumerate(pages):
        tell(Progress("pictures", number, len(pages), "pages"))
        name = re.sub(r"[^A-Za-z0-9]+", "-", page.path).strip("-") or "front"
        shots = {}
        for side, url in zip(("live", "staging"), found.urls(page.path), strict=True):
            shots[side] = folder / f"{name}-{side}.png"
            _photograph(browser, url, shots[side])
        if all(p.is_file() for p in shots.values()):
            marked = folder / f"{name}-difference.png"
            share = difference(shots["live"], shots["staging"], marked)
            result.append(Pictured(page.path, str(shots["live"]), str(shots["staging"]), str(marked), share))
    return result


def _photograph(browser: str, url: str, to: Path) -> None:
    with tempfile.TemporaryDirectory() as profile:
        subprocess.run(  # noqa: S603 - the URL is an argument of its own, below the site's own base
            [browser, "--headless", "--no-sandbox", "--disable-gpu", "--no-first-run", "--hide-scrollbars",
             "--disable-background-networking", "--disable-component-update", "--disable-sync",
             f"--user-data-dir={profile}", f"--window-size={_SIZE[0]},{_SIZE[1]}",
             f"--screenshot={to.absolute()}", url],
            capture_output=True, timeout=_TIMEOUT_SECONDS, check=False)


def difference(one: Path, other: Path, to: Path) -> float:
    """Write the second picture, paled, with what differs from the first in red. Returns the share of pixels that
    differ, 0 to 1; pictures of different sizes are laid on one canvas."""
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
    marked = (both[1] // 3 + 170).astype(np.uint8)
    marked[differs] = (200, 30, 30)
    Image.fromarray(marked).save(to)
    return float(differs.mean())
