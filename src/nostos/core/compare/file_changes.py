"""What each side changed in its file tree since the anchor."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, replace

from nostos.core.anchor.names import Side
from nostos.core.anchor.store import SMALL_TEXT, Anchor
from nostos.core.compare.field_merge import Standing
from nostos.core.files.entry import FileEntry, digest_of
from nostos.core.files.tree import SkippedFile
from nostos.core.profiles.model import Profile, ignored
from nostos.core.sites.recognise import Site
from nostos.core.values.merging import merge_text


@dataclass(frozen=True)
class FileState:
    """A file that is not the same everywhere: its three versions (None: there is none).

    decided: for which side, where both changed it differently. merged: its text with both sides' changes, where they
    are in different lines.
    """

    path: str
    base: FileEntry | None
    live: FileEntry | None
    staging: FileEntry | None
    decided: Side | None = None
    merged: bytes | None = None

    @property
    def standing(self) -> Standing:
        if _equal(self.live, self.staging):
            return Standing.SETTLED
        if _equal(self.base, self.live):
            return Standing.HOMEWARD
        if _equal(self.base, self.staging) or self.decided is Side.LIVE:
            return Standing.KEPT
        if self.decided is Side.STAGING:
            return Standing.HOMEWARD
        if self.merged is None:
            return Standing.CLASH
        digest = digest_of(self.merged)
        if self.live is not None and digest == self.live.digest:
            return Standing.KEPT  # it holds staging's lines already
        return Standing.HOMEWARD if self.staging is not None and digest == self.staging.digest else Standing.BLENDED


def _equal(one: FileEntry | None, other: FileEntry | None) -> bool:
    return (one is None and other is None) or (one is not None and one.same_as(other))


def tree_of(site: Site, profile: Profile, remembered: dict[str, FileEntry],
            passed: Callable[[SkippedFile], None] = lambda _: None) -> dict[str, FileEntry]:
    """Every file of a site with its digest. A file whose size and stamps are as remembered is not read again."""
    found = {}
    for entry in site.files.scan(site.foreign_paths(), ignored(profile), passed):
        known = remembered.get(entry.path)
        if known is not None and replace(known, digest=entry.digest) == entry:
            entry = known
        elif entry.digest is None:
            try:
                entry = replace(entry, digest=site.files.digest(entry.path))
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
            state = FileState(path, base, trees[Side.LIVE].get(path), trees[Side.STAGING].get(path))
            merged = _merged_text(anchor, live, staging, state) if state.standing is Standing.CLASH else None
            result.append(replace(state, merged=merged))
    return result


def _merged_text(anchor: Anchor, live: Site, staging: Site, state: FileState) -> bytes | None:
    """A small text file with both sides' changes by line; None where it is none, or they meet."""
    sides = (state.live, state.staging)
    if state.base is None or any(e is None or e.kind != "file" or e.size > SMALL_TEXT for e in sides):
        return None
    if len({e.mode for e in sides if e} | {state.base.mode}) > 1:
        return None
    base = anchor.text(state.base.digest)
    if base is None:
        return None
    try:
        old = base.decode()
        texts = [s.files.read(state.path, SMALL_TEXT + 1).decode() for s in (live, staging)]
    except (OSError, UnicodeDecodeError):
        return None
    if any(digest_of(t.encode()) != e.digest
           for t, e in zip(texts, sides, strict=True) if e is not None):
        return None  # it is being written this very moment
    merged = merge_text(old, texts[0], texts[1], lines=True)
    return None if merged is None else merged.encode()
