"""Core, extensions and themes side by side: at the anchor, on live and in staging."""

from __future__ import annotations

import re
from collections.abc import Iterable, Iterator
from fnmatch import fnmatchcase

from nostos.around.version_heads import HEAD, is_part, version_in
from nostos.core.anchor.names import Side
from nostos.core.anchor.open_voyage import Crew
from nostos.core.anchor.store import Anchor
from nostos.core.compare.file_changes import FileState
from nostos.core.compare.items import Comparison, Item, SchemaAction
from nostos.core.database.protocol import Database
from nostos.core.database.schema import NAMED
from nostos.core.files.entry import FileEntry
from nostos.core.plan.prepared import compare_voyage
from nostos.core.profiles.model import Profile
from nostos.core.profiles.parts import Folder
from nostos.core.progress import Listener, silent
from nostos.core.records import dataclass
from nostos.core.sites.recognise import Site
from nostos.core.values import structures


@dataclass(frozen=True)
class PartState:
    """A core, an extension or a theme in one place. version: "" where it says none. enabled: None where that is not
    known. edited: files that are not as at the anchor although the version is the same."""

    version: str
    enabled: bool | None = None
    edited: tuple[str, ...] = ()


@dataclass(frozen=True)
class PartVersions:
    """One part in all three places (None: it is not there). newer: on which side its version is higher, if on one.
    brought: items that came along with it since the anchor, such as tables and settings."""

    kind: str
    name: str
    anchor: PartState | None
    live: PartState | None
    staging: PartState | None
    newer: Side | None
    brought: tuple[str, ...]

    @property
    def moved(self) -> bool:
        """Whether it is not the same everywhere."""
        states = (self.live, self.staging)
        return len({s.version if s else None for s in (self.anchor, *states)}) > 1 or any(
            s.edited for s in states if s) or len({s.enabled for s in states if s}) > 1


def versions(crew: Crew, tell: Listener = silent) -> list[PartVersions]:
    """Every part of either site or of the anchor, by kind and name. Reads both sites, changes neither."""
    comparison, _ = compare_voyage(crew, tell)
    profile = comparison.rows.profile
    enabled = {side: _enabled(site, profile) for side, site in ((Side.LIVE, crew.live), (Side.STAGING, crew.staging))}
    base = crew.anchor.base_files()
    changed = [f for i in comparison.items.values() for f in i.files]
    parts = []
    for folder in profile.folders:
        names = {folder.only} if folder.only else {n for paths in (
            base, _folders(crew.live, folder), _folders(crew.staging, folder)) for n in _names(folder, paths)}
        for name in sorted(names):
            part = _part(crew, comparison, folder, name, base, changed, enabled)
            if part is not None:
                parts.append(part)
    cores = [p for p in parts if p.kind == "core"]
    best = [p for p in cores if any(s and s.version for s in (p.anchor, p.live, p.staging))] or cores
    return [p for p in parts if p.kind != "core" or p in best]


def _folders(site: Site, folder: Folder) -> list[str]:
    if not site.has_files:
        return []
    roots = (f"{folder.parent}/{name}".lstrip("/") for name in site.files.names(folder.parent))
    return [f"{root}/" for root in roots if is_part(folder, site.files, root)]


def _names(folder: Folder, paths: Iterable[str]) -> Iterator[str]:
    head = folder.parent + "/" if folder.parent else ""
    for path in paths:
        if path.startswith(head) and "/" in path[len(head):]:
            yield path[len(head):].partition("/")[0]


def _part(crew: Crew, comparison: Comparison, folder: Folder, name: str, base: dict[str, FileEntry],
          changed: list[FileState], enabled: dict[Side, set[tuple[str, str]] | None]) -> PartVersions | None:
    root = f"{folder.parent}/{name}".lstrip("/")
    then = {p[len(root) + 1:]: e for p, e in base.items() if p.startswith(root + "/")}
    anchor = None
    if then and (not folder.manifest or folder.manifest in then):
        anchor = PartState(_anchor_version(crew.anchor, folder, then))
    states: dict[Side, PartState | None] = {}
    for side, site in ((Side.LIVE, crew.live), (Side.STAGING, crew.staging)):
        if not is_part(folder, site.files, root):
            states[side] = None
            continue
        version = version_in(folder, site.files, root)
        edited = tuple(f.path[len(root) + 1:] for f in changed if f.path.startswith(root + "/")
                       and _differs(f.base, f.target if side is Side.LIVE else f.source))
        on = enabled[side]
        states[side] = PartState(version, None if on is None or folder.kind == "core" else (folder.kind, name) in on,
                                 edited if anchor and anchor.version == version else ())
    live, staging = states[Side.LIVE], states[Side.STAGING]
    if anchor is None and live is None and staging is None:
        return None
    newer = None
    if live and staging and live.version != staging.version:
        newer = Side.STAGING if order(staging.version) > order(live.version) else Side.LIVE
    return PartVersions(folder.kind, name, anchor, live, staging, newer,
                        tuple(_brought(comparison.items.values(), folder, name)))


def _differs(one: FileEntry | None, other: FileEntry | None) -> bool:
    return one is not other and (one is None or not one.same_as(other))


def _anchor_version(anchor: Anchor, folder: Folder, files: dict[str, FileEntry]) -> str:
    """The version that a part said at the anchor, by the contents of small files that it remembers."""
    if folder.version is None:
        return ""
    for path in sorted(p for p in files if fnmatchcase(p, folder.version.files) and "/" not in p):
        text = anchor.text(files[path].digest)
        match = re.search(folder.version.pattern, (text or b"")[:HEAD].decode("utf-8", "replace"), re.MULTILINE)
        if match:
            return match.group(1).strip()[:40]
    return ""


def order(version: str) -> tuple[tuple[int, int, str], ...]:
    """What versions are sorted by: numbers as numbers; words, such as `beta`, before the end and before numbers."""
    parts = re.findall(r"\d+|[a-z]+", version.lower())
    return (*((1, int(p), "") if p.isdigit() else (-1, 0, p) for p in _trimmed(parts)), (0, 0, ""))


def _trimmed(parts: list[str]) -> list[str]:
    while parts and parts[-1].isdigit() and int(parts[-1]) == 0:
        parts = parts[:-1]
    return parts


def _enabled(site: Site, profile: Profile) -> set[tuple[str, str]] | None:
    """Which extensions and themes are in use, by the settings that name them; None where no setting does."""
    references = [r for r in profile.references if r.to_folder]
    if not references:
        return None
    database: Database = site.open(readonly=True)
    enabled: set[tuple[str, str]] = set()
    try:
        tables = database.tables()
        for r in references:
            for row in database.find(tables[r.table], dict(r.where)) if r.table in tables else ():
                value = row.get(r.column)
                if not isinstance(value, str):
                    continue
                tree = structures.read(value)
                # A plain name may be written as JSON.
                values = [value.strip('"')] if tree is None else [v for _, v in structures.leaves(tree.data)]
                # Some name a file in the folder.
                enabled |= {(r.to_folder, v.partition("/")[0]) for v in values if isinstance(v, str)}
    finally:
        database.close()
    return enabled


def _brought(items: Iterable[Item], folder: Folder, name: str) -> Iterator[str]:
    forms = {name, name.replace("-", "_")}
    owns = [p.replace("{name}", n) for p in folder.owns for n in forms]
    offers = [p.replace("{name}", n) for p in folder.offers for n in forms]
    for item in items:
        step = item.schema[0] if item.schema else None
        if step is not None and step.action is SchemaAction.ADD:
            full = step.table if step.what == "table" else f"{step.table}.{step.name}"
            if step.what not in NAMED and any(fnmatchcase(full, p) for p in owns):
                yield item.id
        elif any(fnmatchcase(item.id, p) for p in offers):
            yield item.id
