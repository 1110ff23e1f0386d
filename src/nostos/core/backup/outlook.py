"""What restoring a backup would do to a site: looked at, and nothing is changed."""

from __future__ import annotations

from collections import Counter
from collections.abc import Mapping
from pathlib import Path

from nostos.core.backup.archive import ArchiveReader
from nostos.core.backup.contents import Contents, begin
from nostos.core.backup.differences import Differences
from nostos.core.backup.layout import BackupError
from nostos.core.clone.copy_rows import Localiser
from nostos.core.compare.file_changes import tree_of
from nostos.core.database.protocol import explaining
from nostos.core.database.registry import engine
from nostos.core.database.schema import Key
from nostos.core.patterns import matches
from nostos.core.plan.operations import PutFile, RemoveFile
from nostos.core.profiles.model import ignored
from nostos.core.progress import Listener, silent
from nostos.core.records import dataclass
from nostos.core.sites.recognise import Site
from nostos.core.values.urls import UrlForms


@dataclass(frozen=True)
class Outlook:
    """What restoring a backup would do to a site. lost, changed, back: how many things of each kind live would lose,
    would have as they were, and would have again. tables_back: tables and columns that it would have again. stay:
    tables that live gained, which stay. files: operations on files. left_out: files that do not belong there. rows: how
    many rows differ.
    """

    contents: Contents
    path: Path
    site: Site
    lost: Mapping[str, int]
    changed: Mapping[str, int]
    back: Mapping[str, int]
    tables_back: tuple[str, ...]
    stay: tuple[str, ...]
    files: tuple[PutFile | RemoveFile, ...]
    left_out: tuple[str, ...]
    rows: int

    @property
    def acts(self) -> bool:
        """Whether it would do anything."""
        return bool(self.rows or self.tables_back or self.files)


def localiser(contents: Contents, site: Site) -> Localiser:
    """How a backup's rows are written for a site with another URL or prefix."""
    return Localiser(UrlForms(contents.manifest.url), UrlForms(site.url, also=(contents.manifest.url,)),
                     (contents.manifest.prefix, site.database.prefix),
                     site.full_profile({t.name: t for t in contents.outline.tables}))


def check_fits(contents: Contents, site: Site) -> None:
    """Raise BackupError when a backup cannot be put into this site."""
    mine, theirs = site.database.engine, engine(contents.outline.engine)
    if mine is not theirs:
        raise BackupError(f"The backup is of a site with {theirs.kept}; {site.name} has {mine.kept}.",
                          next_step="Name a site of the same kind.")
    if contents.manifest.files != site.has_files:
        raise BackupError("One of the two, the backup and the site, has files, and the other has none.",
                          next_step="Name a site of the same kind.")


def inspect_backup(path: Path, site: Site, tell: Listener = silent) -> Outlook:
    """Verify a backup, and find out what restoring it would do. Changes nothing. Raises BackupError."""
    reader = ArchiveReader(path)
    try:
        contents = begin(reader)
        check_fits(contents, site)
        lost: Counter[str] = Counter()
        changed: Counter[str] = Counter()
        back: Counter[str] = Counter()
        database = site.open(readonly=True)
        try:
            with explaining(database), database.reading():
                differences = Differences(reader, contents, site, database, localiser(contents, site), tell)
                seen: set[tuple[str, Key]] = set()
                parts: dict[tuple[str, Key], str] = {}
                count = 0
                for difference in differences:
                    count += 1
                    if differences.is_part(difference):
                        whole = differences.owner(difference)
                        if whole is not None:
                            parts[whole.table, whole.key] = differences.kind(whole)
                        continue
                    seen.add((difference.table, difference.key))
                    (lost if difference.then is None else back if difference.now is None else changed)[
                        differences.kind(difference)] += 1
                changed.update(kind for place, kind in parts.items() if place not in seen)
        finally:
            database.close()
        contents = differences.contents
        files, left_out = file_operations(contents, site)
        return Outlook(contents, path, site, dict(sorted(lost.items())), dict(sorted(changed.items())),
                       dict(sorted(back.items())), (*differences.missing, *differences.columns), differences.gained,
                       files, left_out,
                       count)
    finally:
        reader.close()


def file_operations(contents: Contents, site: Site) -> tuple[tuple[PutFile | RemoveFile, ...], tuple[str, ...]]:
    """What makes a site's tree that of the backup, and which of the backup's files do not belong there."""
    if not site.has_files:
        return (), ()
    tree = tree_of(site, site.profile, {})
    apart = set(site.foreign_paths())
    wanted, left_out = {}, []
    for name, entry in contents.files.items():
        if matches(name, ignored(site.profile)) or name in apart:
            left_out.append(name)
        else:
            wanted[name] = entry
    below = {name.rsplit("/", n)[0] for name in wanted for n in range(1, name.count("/") + 1)}
    operations: list[PutFile | RemoveFile] = []
    for name, before in tree.items():
        if name not in wanted and not (before.kind == "folder" and name in below):
            operations.append(RemoveFile("", name, before))
    for name, entry in wanted.items():
        present = tree.get(name)
        if not entry.same_as(present) and not (entry.kind == "folder" and site.files.is_folder(name)):
            operations.append(PutFile("", name, entry, present))
    return tuple(operations), tuple(left_out)
