"""What each side changed in its file tree since the anchor."""

from __future__ import annotations

import re
from collections.abc import Callable
from contextlib import suppress
from dataclasses import replace
from fnmatch import fnmatchcase

from nostos.core.anchor.names import Side
from nostos.core.anchor.store import SMALL_TEXT, Anchor
from nostos.core.compare.field_merge import Role, Standing
from nostos.core.errors import SiteError
from nostos.core.files.entry import FileEntry, digest_of
from nostos.core.files.tree import SkippedFile
from nostos.core.profiles.model import Profile, ignored
from nostos.core.profiles.parts import Folder
from nostos.core.records import dataclass
from nostos.core.sites.recognise import Site
from nostos.core.values.merging import merge_text

_HEAD = 8192  # bytes of a file in which a version is looked for, as the systems themselves do


@dataclass(frozen=True)
class FileState:
    """A file that is not the same everywhere: its three versions (None: there is none).

    decided: for which of the two, where both changed it differently. merged: its text with both sides' changes, where
    they are in different lines. whole: it is part of a folder of which both sides have made another version: that is
    one side's as a whole, never a mixture.
    """

    path: str
    base: FileEntry | None
    target: FileEntry | None
    source: FileEntry | None
    decided: Role | None = None
    merged: bytes | None = None
    whole: bool = False

    @property
    def standing(self) -> Standing:
        """How the file stands, from its three versions."""
        if _equal(self.target, self.source):
            return Standing.SETTLED
        if self.whole:
            return Standing.CLASH if self.decided is None else (
                Standing.KEPT if self.decided is Role.TARGET else Standing.HOMEWARD)
        if _equal(self.base, self.target):
            return Standing.HOMEWARD
        if _equal(self.base, self.source) or self.decided is Role.TARGET:
            return Standing.KEPT
        if self.decided is Role.SOURCE:
            return Standing.HOMEWARD
        if self.merged is None:
            return Standing.CLASH
        digest = digest_of(self.merged)
        if self.target is not None and digest == self.target.digest:
            return Standing.KEPT  # it holds the source's lines already
        return Standing.HOMEWARD if self.source is not None and digest == self.source.digest else Standing.BLENDED


def _equal(one: FileEntry | None, other: FileEntry | None) -> bool:
    return (one is None and other is None) or (one is not None and one.same_as(other))


def tree_of(site: Site, profile: Profile, remembered: dict[str, FileEntry],
            passed: Callable[[SkippedFile], None] = lambda _: None) -> dict[str, FileEntry]:
    """Every file of a site with its digest. A file whose size and stamps are as remembered is not read again."""
    tree, others = {}, []
    for entry in site.files.scan(site.foreign_paths(), ignored(profile), passed):
        known = remembered.get(entry.path)
        if known is not None and replace(known, digest=entry.digest) == entry:
            entry = known
        elif entry.digest is None:
            others.append(entry.path)
        tree[entry.path] = entry
    digests = site.files.digests(others)
    for path in others:
        if path in digests:
            tree[path] = replace(tree[path], digest=digests[path])
        else:
            del tree[path]  # gone since it was listed
    return tree


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
    return _as_wholes(anchor, live, staging, profile, result)


def _as_wholes(anchor: Anchor, live: Site, staging: Site, profile: Profile, states: list[FileState]) -> list[FileState]:
    """The files, those of folders that both sides changed, and of which one made another version, as a whole."""
    roots: dict[str, list[FileState]] = {}
    of: dict[str, Folder] = {}
    for state in states:
        for folder in profile.folders:
            above = f"{folder.parent}/" if folder.parent else ""
            name, _, rest = state.path[len(above):].partition("/")
            if folder.version is not None and state.path.startswith(above) and rest and folder.only in ("", name):
                roots.setdefault(above + name, []).append(state)
                of[above + name] = folder
                break
    whole = {root for root, some in roots.items() if _both(some) and _another(anchor, live, staging, of[root], some)}
    parts = {state.path for root in whole for state in roots[root]}
    return [replace(s, whole=True, merged=None) if s.path in parts else s for s in states]


def _both(states: list[FileState]) -> bool:
    """Whether both sides changed files that were there. What one merely added is no update."""
    known = [s for s in states if s.base is not None]
    return any(not _equal(s.base, s.target) for s in known) and any(not _equal(s.base, s.source) for s in known)


def _another(anchor: Anchor, live: Site, staging: Site, folder: Folder, states: list[FileState]) -> bool:
    """Whether one of the sides made another version of a folder."""
    assert folder.version is not None
    for state in states:
        name = state.path.rpartition("/")[2]
        depth = state.path.count("/") - folder.parent.count("/") - (1 if folder.parent else 0)
        if depth != 1 or not fnmatchcase(name, folder.version.files):
            continue
        titles = []
        for entry, site in ((state.base, None), (state.target, live), (state.source, staging)):
            head = None
            if entry is not None and site is None:
                head = anchor.text(entry.digest)
            elif entry is not None and site is not None:
                with suppress(OSError, SiteError):
                    head = site.files.read(state.path, _HEAD)
            match = re.search(folder.version.pattern, (head or b"")[:_HEAD].decode("utf-8", "replace"), re.MULTILINE)
            titles.append(match.group(1).strip() if match else None)
        if len(set(titles)) > 1:
            return True
    return False


def _merged_text(anchor: Anchor, live: Site, staging: Site, state: FileState) -> bytes | None:
    """A small text file with both sides' changes by line; None where it is none, or they meet."""
    sides = (state.target, state.source)
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
