"""Keeping house: what Nostos's home takes up, and what ages out of it.

`settings.toml` in the home may say how long journals of ended operations, and backups that nobody named a place for,
are kept: `days` in its part `[keep]`; 0 keeps them for ever.
"""

from __future__ import annotations

import shutil
import time
from collections.abc import Iterator
from contextlib import suppress
from pathlib import Path

from nostos.core.anchor.store import Anchor
from nostos.core.backup.archive import ArchiveReader
from nostos.core.backup.contents import begin
from nostos.core.backup.layout import ENDING
from nostos.core.errors import NostosError, VoyageError
from nostos.core.records import dataclass
from nostos.core.sites.site_file import dotted, read_toml
from nostos.core.takeback.undo import done, undone
from nostos.core.voyages import journal as journals
from nostos.core.voyages import kept
from nostos.core.voyages.home import Home

SETTINGS = "settings.toml"
_DAYS = 90


@dataclass(frozen=True)
class Space:
    """Bytes that something takes up. what: "anchor", "journals" or "backups". of: the voyage, or the site."""

    what: str
    of: str
    bytes: int


def keep_days(home: Home) -> int:
    """For how many days things are kept; 0: for ever. Raises VoyageError when the settings cannot be read."""
    path = home.path / SETTINGS
    if not path.exists():
        return _DAYS
    days = dotted(read_toml(path), "keep.days")
    if days is None:
        return _DAYS
    if not isinstance(days, int) or isinstance(days, bool) or days < 0:
        raise VoyageError(f"{path} says keep.days = {days!r}, which is no number of days.",
                          next_step="Write a whole number; 0 keeps everything for ever.")
    return days


def age_out(home: Home, now: float | None = None) -> list[Path]:
    """Remove journals and backups that are older than the settings want. Returns what was removed.

    What stays whatever its age: the newest backup of each site, whatever an interrupted operation needs, the last merge
    of a voyage that can still be taken back, and what an operation that stays has taken back. now: seconds since 1970.
    """
    days = keep_days(home)
    if not days:
        return []
    before = (time.time() if now is None else now) - days * 86400
    gone = [*_old_backups(home, before), *_old_restores(home, before)]
    for name in home.names():
        gone += _old_merges(home, name, before)
    return gone


def _old_backups(home: Home, before: float) -> Iterator[Path]:
    needed = set()
    for folder in journals.unfinished(home.path, "restores"):
        needed |= {line.get(what) for line in journals.read(folder) for what in ("file", "safety")}
    for site in sorted((home.path / "backups").glob("*/")):
        for left in site.glob(f"*{ENDING}.part"):  # of a backup that a crash cut short
            if left.stat().st_mtime < before:
                left.unlink()
        newest: set[tuple[str, str]] = set()
        for path in sorted(site.glob(f"*{ENDING}"), key=lambda p: (p.stat().st_mtime, p.name), reverse=True):
            whose = _whose(path)
            if whose not in newest:
                newest |= {whose} if whose else set()
            elif path.stat().st_mtime < before and str(path) not in needed:
                path.unlink()
                yield path


def _whose(path: Path) -> tuple[str, str] | None:
    """The site that a backup is of, by name and URL: two may have one name. None where it cannot be read; it stays, for
    somebody may still make something of it."""
    try:
        reader = ArchiveReader(path)
        try:
            manifest = begin(reader).manifest
        finally:
            reader.close()
    except NostosError:
        return None
    return manifest.site, manifest.url


def _old_restores(home: Home, before: float) -> Iterator[Path]:
    unfinished = journals.unfinished(home.path, "restores")
    for folder in sorted((home.path / "restores").glob("*/")):
        if folder.stat().st_mtime < before and folder not in unfinished and _kept_is_gone(folder):
            shutil.rmtree(folder)
            yield folder


def _old_merges(home: Home, voyage: str, before: float) -> Iterator[Path]:
    folder = home.folder(voyage) / "merges"
    every = done(home, voyage)
    taken_back = undone(every)
    open_ones = [d.id for d in every if d.verb == "merge" and d.id not in taken_back]
    stays = {p.name for p in journals.unfinished(home.folder(voyage))} | set(open_ones[-1:])
    by_id = {d.id: d for d in every}
    young = [p.name for p in folder.glob("*/") if p.stat().st_mtime >= before]
    for name in (*young, *stays):
        while name in by_id:
            stays.add(name)
            name = by_id[name].undoes
    for path in sorted(folder.glob("*/")):
        if path.stat().st_mtime < before and path.name not in stays and _kept_is_gone(path):
            shutil.rmtree(path)
            with suppress(VoyageError):
                anchor = Anchor(home.folder(voyage) / "anchor.db")
                with anchor.changing():
                    anchor.forget_operation(path.name)
                anchor.close()
            yield path


def _kept_is_gone(journal: Path) -> bool:
    """Remove what an operation keeps on another machine. False: another time, when that machine can be spoken to."""
    with suppress(NostosError, OSError):
        return kept.let_go(journal, connect=False)
    return False


def space(home: Home) -> list[Space]:
    """What the home takes up."""
    spaces = []
    for name in home.names():
        folder = home.folder(name)
        spaces += [Space("anchor", name, sum(p.stat().st_size for p in folder.glob("anchor.db*"))),
                  Space("journals", name, _size(folder / "merges"))]
    spaces.append(Space("journals", "", _size(home.path / "restores")))
    spaces += [Space("backups", site.name, _size(site)) for site in sorted((home.path / "backups").glob("*/"))]
    return [s for s in spaces if s.bytes]


def _size(folder: Path) -> int:
    return sum(p.lstat().st_size for p in folder.rglob("*") if p.is_file())
