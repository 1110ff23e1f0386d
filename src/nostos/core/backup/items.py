"""Single things out of a backup: a comparison of the backup with live as it is now, brought home by the merge engine.

Live as it is now is the ancestor too, so whatever the backup has otherwise can come back, and nothing that live gained
since can go: no row of live's is removed by it.
"""

from __future__ import annotations

import shutil
from collections.abc import Iterator
from dataclasses import replace
from pathlib import Path
from typing import Any, cast

from nostos.core.anchor.names import Side
from nostos.core.anchor.open_voyage import Crew
from nostos.core.anchor.store import Anchor
from nostos.core.backup.archive import ArchiveReader
from nostos.core.backup.contents import Contents, begin, into, read
from nostos.core.backup.differences import Differences
from nostos.core.backup.outlook import check_fits, file_operations, localiser
from nostos.core.backup.restore import check_free
from nostos.core.clock import now
from nostos.core.compare.file_changes import FileState
from nostos.core.database.protocol import Database, explaining
from nostos.core.files.trees import tree_at
from nostos.core.plan.operations import PutFile, SwitchFolder, plan
from nostos.core.plan.prepared import PreparedMerge
from nostos.core.plan.selection import Choice, choose
from nostos.core.plan.stored import ancestors, compare_stored
from nostos.core.private_files import make_private
from nostos.core.progress import Listener, silent
from nostos.core.sites.recognise import Site, recognised_from
from nostos.core.voyages.home import Home, Voyage, VoyageState


def detached(site: Site, database: Database) -> Crew:
    """A site that an operation of no voyage works on. database: its own, open."""
    place = recognised_from(site)
    record = Voyage("", "", place, site.name, site.url, place, place, site.url, site.database.shown, now(),
                    VoyageState.READY)
    # An operation of no voyage tells no anchor what it did: it asks it for ancestors, and for nothing else.
    return Crew(record, site, site, cast(Anchor, ancestors(database)))


def prepare_things(home: Home, path: Path, site: Site, choice: Choice, scratch: Path, tell: Listener = silent
                   ) -> PreparedMerge:
    """Work out how the chosen things of a backup come back. Changes nothing of the site. scratch: a private folder that
    the files which come are laid into. Raises BackupError or SelectionError."""
    check_free(home, site)
    reader = ArchiveReader(path)
    try:
        contents = begin(reader)
        check_fits(contents, site)
        database = site.open(readonly=True)
        try:
            with explaining(database), database.reading():
                differences = Differences(reader, contents, site, database, localiser(contents, site), tell)
                rows: list[dict[str, Any]] = [
                    {"table": d.table, "key": list(d.key), "before": d.then, "after": d.now}
                    for d in differences if d.then is not None]
                comparison, needs = compare_stored(site, database, rows, _files(differences.contents, site))
                selection = choose(comparison, needs, choice)
        finally:
            database.close()
        notes = tuple(f"Live has no table {name} any more: what was in it comes back only with a whole restore."
                      for name in differences.missing)
        made = replace(choice, notes=notes)
        prepared = PreparedMerge(comparison, needs, plan(comparison, needs, selection), choice, Side.LIVE, made,
                            dict(comparison.items), "", lambda: prepare_things(home, path, site, choice, scratch, tell),
                            tree_at(scratch), home.path / "restores")
        _lay(reader, prepared, scratch)
        return prepared
    finally:
        reader.close()


def _files(contents: Contents, site: Site) -> Iterator[FileState]:
    operations, _ = file_operations(contents, site)
    folders = [f.parent for f in site.profile.folders]
    for o in operations:
        comes = o.entry if isinstance(o, PutFile) else None
        # A file that live gained goes only as part of an extension or a theme that goes back as a whole.
        whole = next((p for p in folders if p and o.path.startswith(p + "/") and any(
            name.startswith("/".join(o.path.split("/")[:p.count("/") + 2]) + "/") for name in contents.files)), None)
        if comes is not None or whole is not None:
            yield FileState(o.path, o.before, o.before, comes)


def _lay(reader: ArchiveReader, prepared: PreparedMerge, scratch: Path) -> None:
    wanted = {put.path for o in prepared.plan.of(PutFile, SwitchFolder)
              for put in (o.puts if isinstance(o, SwitchFolder) else (o,))}
    shutil.rmtree(scratch, ignore_errors=True)
    make_private(scratch)
    if not wanted:
        return
    read(reader, place=into(scratch, wanted))
