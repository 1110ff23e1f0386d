"""What each side changed in its file tree since the anchor."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, replace

from nostos.core.anchor import Anchor
from nostos.core.fields import Standing
from nostos.core.keys import Side
from nostos.core.profiles.model import Profile, ignored
from nostos.core.site import Site
from nostos.core.tree.entries import Entry, Passed, digest_file, scan


@dataclass(frozen=True)
class FileState:
    """A file that is not the same everywhere: its three versions (None: there is none)."""

    path: str
    base: Entry | None
    live: Entry | None
    staging: Entry | None

    @property
    def standing(self) -> Standing:
        if _equal(self.live, self.staging):
            return Standing.SETTLED
        if _equal(self.base, self.live):
            return Standing.HOMEWARD
        return Standing.KEPT if _equal(self.base, self.staging) else Standing.CLASH


def _equal(one: Entry | None, other: Entry | None) -> bool:
    return (one is None and other is None) or (one is not None and one.same_as(other))


def tree_of(site: Site, profile: Profile, remembered: dict[str, Entry],
            passed: Callable[[Passed], None] = lambda _: None) -> dict[str, Entry]:
    """Every file of a site with its digest. A file whose size and stamps are as remembered is not read again."""
    found = {}
    for entry in scan(site.files, site.apart(), ignored(profile), passed):
        known = remembered.get(entry.path)
        if known is not None and replace(known, digest=entry.digest) == entry:
            entry = known
        elif entry.digest is None:
            try:
                entry = replace(entry, digest=digest_file(site.files / entry.path))
            except FileNotFoundError:
                continue  # gone since it was listed
        found[entry.path] = entry
    return found


def compare_files(anchor: Anchor, live: Site, staging: Site, profile: Profile) -> list[FileState]:
    """Every file that is not the same on live, in staging and at the anchor."""
    remembered = {s: anchor.files(s) for s in Side}
    trees = {s: tree_of(site, profile, remembered[s]) for s, site in ((Side.LIVE, live), (Side.STAGING, staging))}
    result = []
    for path in sorted({p for s in Side for p in (*trees[s], *remembered[s])}):
        sides = [trees[s].get(path) for s in Side]
        base = anchor.base_file(path)
        if not all(_equal(base, e) for e in sides):
            result.append(FileState(path, base, trees[Side.LIVE].get(path), trees[Side.STAGING].get(path)))
    return result
