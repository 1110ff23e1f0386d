"""Putting a whole backup in a site's place: verified first, prepared beside, switched in one step, journaled.

The order is that of a merge (design, section 5). What is replaced is backed up before; what live gained between that
backup and the switch is looked for after it, and backed up as well.
"""

from __future__ import annotations

import shutil
from collections.abc import Mapping, Sequence
from contextlib import suppress
from dataclasses import field, replace
from functools import partial
from pathlib import Path
from time import monotonic
from typing import Any

import msgspec

from nostos.core.anchor.names import Side
from nostos.core.apply.files.switch import Switch
from nostos.core.backup.archive import ArchiveReader
from nostos.core.backup.contents import Rows, into, read
from nostos.core.backup.layout import BackupError
from nostos.core.backup.outlook import Outlook, localiser
from nostos.core.backup.write import BackupResult, Blocks, backup, default_place
from nostos.core.clock import now
from nostos.core.database.outline import Outline
from nostos.core.database.protocol import AT_ONCE, Block, Database
from nostos.core.database.registry import Swap
from nostos.core.database.rows.block_sums import Sums
from nostos.core.database.schema import Table
from nostos.core.errors import (
    MergeInterrupted,
    MergeRefused,
    NostosError,
    RecoverNeeded,
    Stopped,
    TargetMoved,
    explained,
)
from nostos.core.files.tree import SPARE
from nostos.core.files.trees import tree_at
from nostos.core.patterns import matches
from nostos.core.plan.operations import Operation, PutFile, files_as_seen
from nostos.core.private_files import make_private, write_private
from nostos.core.progress import Listener, Progress, silent
from nostos.core.records import dataclass
from nostos.core.sites.lock import Hold, holding
from nostos.core.sites.recognise import Site, recognise, recognised_from
from nostos.core.undisturbed import undisturbed
from nostos.core.voyages import journal as journals
from nostos.core.voyages import kept
from nostos.core.voyages.home import Home

_TRIES = 3


@dataclass(frozen=True)
class RestoreResult:
    """What a restore did. safety: the backup of what it replaced. late: rows that live gained or changed while it ran;
    they are in that backup. between: seconds that live spent between two states."""

    id: str
    safety: Path
    rows: int
    files: int
    late: int
    between: float
    seconds: float


def restore(home: Home, outlook: Outlook, tell: Listener = silent, anew: bool = False) -> RestoreResult:
    """Carry it out. anew: the site was made for it, so that there is nothing to back up. Raises NostosError with the
    site as it was; a crash leaves what `recover` finishes or takes back.
    """
    start = monotonic()
    check_free(home, outlook.site)
    work = _Restore(home, outlook, tell)
    with holding(outlook.site) as hold:
        result = work.run(hold)
    if anew:
        result.safety.unlink(missing_ok=True)
    return replace(result, seconds=monotonic() - start)


def check_free(home: Home, site: Site) -> None:
    """Raise NostosError when something unfinished, or a staging copy with its guards, is in the way."""
    for folder in journals.unfinished(home.path, "restores"):
        raise RecoverNeeded(f"The restore {folder.name} was interrupted.", left="Nothing was done now.",
                            next_step="Run `nostos recover`: it finishes it or takes it back.")
    for name in home.names():
        voyage = home.read(name)
        if _same(voyage.staging, site):
            raise BackupError(f"{site.name} is the staging copy of voyage {name}; a restore would take its guards "
                              "away.", next_step=f"`nostos refresh {name} --afresh` makes it a new copy of live.")
        if journals.unfinished(home.folder(name)) and _same(voyage.live, site):
            raise RecoverNeeded(f"An operation of voyage {name} on this site was interrupted.",
                                left="Nothing was done now.", next_step=f"Run `nostos recover {name}` first.")


def _same(where: str, site: Site) -> bool:
    """Whether this is where a site is recognised from."""
    with suppress(NostosError):
        other = recognise(where)
        return other.files.where == site.files.where or (
            other.database.same_as(site.database) and not site.database.none)
    return False


class _Restore:
    def __init__(self, home: Home, outlook: Outlook, tell: Listener) -> None:
        self.home = home
        self.outlook = outlook
        self.site = outlook.site
        self.tell = tell
        self.id = journals.new_id()
        self.folder = home.path / "restores" / self.id
        self.tables = [t.name for t in outlook.contents.outline.tables]
        self.between = 0.0
        self.rows = 0

    def run(self, hold: Hold) -> RestoreResult:
        """Put the backup in place: what is there now is backed up first, then rows and files are laid beside the site's
        and changed for them in one step. Raises BackupError or MergeRefused with everything taken back, and
        MergeInterrupted where only `recover` can say how it ended."""
        safety = self._safety()
        journal = journals.Journal(self.folder)
        place = self.site.database.engine.swap(self.site.database, self.folder, self.id)
        source = self.folder / "source"
        switch = Switch(self.site.files, tree_at(source), self.id, Side.LIVE)
        began = False
        try:
            try:
                self._keep_totals(safety.blocks)
                journal.write(journals.Step.PLAN, restore=self.id, at=now(), site=recognised_from(self.site),
                              file=str(self.outlook.path), safety=str(safety.path), tables=self.tables)
                hold.begin(self.id, "")
                write_private(self.folder / "outline.json", msgspec.json.encode(self.outlook.contents.outline))
                make_private(source)
                self._load(place, source)
                operations: list[Operation] = list(self.outlook.files)
                self.tell(Progress("staging files", 0, None, "files"))
                switch.plan(operations, [c for o in self.outlook.files for c in files_as_seen(o)])
                journal.write(journals.Step.STAGING, switch=switch.record())
                switch.stage(operations, partial(kept.begin, self.folder, self.site.files))
                journal.write(journals.Step.STAGED, fresh=switch.fresh)
                began = True
                safety = self._commit(place, switch, safety, journal)
            except BaseException as error:
                with undisturbed():
                    if began and self._committed(place):
                        raise in_doubt(error) from error
                    try:
                        switch.back(began)
                        place.discard()
                    except Exception as again:
                        raise in_doubt(again) from error
                    _clear_copies(self.folder)
                    with suppress(OSError, NostosError):
                        journal.write(journals.Step.TAKEN_BACK, why=type(error).__name__)
                        hold.end(self.id)
                explained = readable(error)
                if explained is error:  # it has its first cause with it already
                    raise
                raise explained from error
            try:
                journal.write(journals.Step.COMMITTED)
                late = _finish(_Committed(self.site, self.folder, place, switch, self.outlook.contents.outline,
                                          self.tables, safety.path, self.outlook.contents.folders), journal)
                journal.write(journals.Step.SETTLED)
                hold.end(self.id)
            except BaseException as error:
                raise in_doubt(error) from error
        finally:
            journal.close()
        return RestoreResult(self.id, safety.path, self.rows, len(self.outlook.files), late, self.between, 0.0)

    def _committed(self, place: Swap) -> bool:
        try:
            return place.committed()
        except Exception:
            return True  # not to be found out now: recover will

    def _safety(self) -> BackupResult:
        moment = now()
        to = default_place(self.home.path / "backups", self.site, moment)
        while to.exists():
            to = to.with_name(to.name.replace(".tar", "-again.tar"))
        made = backup(self.site, to, self.tell)
        volatile = self.site.profile.volatile
        return replace(made, blocks={t: b for t, b in made.blocks.items() if not matches(t, volatile)})

    def _keep_totals(self, blocks: Blocks) -> None:
        write_private(self.folder / "totals.json", msgspec.json.encode(
            {t: {str(n): [b.count, str(b.digest)] for n, b in some.items()} for t, some in blocks.items()}))

    def _load(self, place: Swap, source: Path) -> None:
        """Fill the new tables and lay the files that are to come into `source`; prove the rows by their digests."""
        contents = self.outlook.contents
        local = localiser(contents, self.site)
        wanted = {o.path for o in self.outlook.files if isinstance(o, PutFile)}
        sums: dict[str, Sums] = {t.name: Sums() for t in contents.outline.tables if t.key}
        target = place.load()
        outline = self._counted(contents.outline)

        def rows(table: Table, some: Rows) -> None:
            staged = [local.change(table, values) for values in some]
            self.rows += len(staged)
            for at in range(0, len(staged), AT_ONCE):
                target.insert_many(table, table.stored, staged[at:at + AT_ONCE])
            if table.key:
                sums[table.name].add_rows(table, staged)

        reader = ArchiveReader(self.outlook.path)
        try:
            self._check_space(sum(e.size for n, e in contents.files.items() if n in wanted))
            target.build(outline)
            with target.writing():
                again = read(reader, rows, target.put_raw, into(source, wanted), self.tell)
            target.finish(replace(outline, views=(), triggers=()) if place.finishes_later else outline)
            if again.files != contents.files or again.outline != contents.outline:
                raise BackupError("The backup was changed while it was read.", next_step="Restore it again.")
            for table in contents.outline.tables:
                if table.key:
                    self._prove(target, table, sums[table.name])
        finally:
            reader.close()
            target.close()

    def _prove(self, target: Database, table: Table, sums: Sums) -> None:
        if target.blocks(table, table.stored) != sums.blocks():
            raise MergeRefused(f"The database did not take the rows of {table.name} as they are.",
                               left="The site is as it was.", next_step="Please report this.")

    def _counted(self, outline: Outline) -> Outline:
        """With counters that give out no number again that live has given out."""
        database = self.site.open(readonly=True)
        try:
            live = database.outline().counters
        finally:
            database.close()
        names = {*(t.name for t in outline.tables), *outline.counters}
        return replace(outline, counters={n: max(outline.counters.get(n, 0), live.get(n, 0))
                                          for n in {*outline.counters, *live} if n in names})

    def _check_space(self, size: int) -> None:
        free = shutil.disk_usage(self.folder).free
        if free < size + SPARE:
            raise MergeRefused(f"The disk has {free >> 20} MB free, and the files to come need {size >> 20} MB.",
                               left="The site is as it was.", next_step="Free some space, then restore again.")

    def _commit(self, place: Swap, switch: Switch, safety: BackupResult, journal: journals.Journal) -> BackupResult:
        """Returns the backup of what was replaced: where live moved on meanwhile, it is made anew."""
        for attempt in range(1, _TRIES + 1):
            blocks = safety.blocks

            def unmoved(database: Database, blocks: Blocks = blocks) -> None:
                if late_rows(database, blocks):
                    raise TargetMoved("Visitors were at work on live while it was being restored.",
                                    next_step="Try again at a quieter hour (`nostos tide` shows when).")
                self.began = monotonic()

            self.began = monotonic()
            try:
                place.commit(self.tables, unmoved, switch.go)
                self.between = monotonic() - self.began
                return safety
            except TargetMoved:
                if attempt == _TRIES or place.committed():
                    raise
                safety.path.unlink()
                safety = self._safety()
                self._keep_totals(safety.blocks)
                journal.write(journals.Step.SAFETY, safety=str(safety.path))
        raise AssertionError("unreachable")


def late_rows(database: Database, blocks: Blocks) -> int:
    """In how many blocks of rows a database is not as it was backed up."""
    tables = database.tables()
    count = 0
    for name, then in blocks.items():
        if name in tables:
            block_map = database.blocks(tables[name], tables[name].stored)
            count += sum(block_map.get(n) != then.get(n) for n in block_map.keys() | then.keys())
    return count


@dataclass(frozen=True)
class _Committed:
    """A restore whose rows are on the site. folder: its journal's. safety: the backup of what it replaced. folders: the
    rights of folders that it makes, by their paths."""

    site: Site
    folder: Path
    place: Swap
    switch: Switch
    outline: Outline
    tables: Sequence[str]
    safety: Path
    folders: Mapping[str, int] = field(default_factory=dict)


def _finish(restore: _Committed, journal: journals.Journal, kept: Mapping[str, Any] | None = None) -> int:
    """After the commit: what could not be part of it, the late rows, and tidying. Can be done again. kept: what the
    journal says of the late rows, if they were kept already: the old tables may be going. Returns how many late blocks
    of rows were found and backed up."""
    restore.place.finish(restore.outline, list(restore.tables))
    late = int(kept["late"]) if kept else 0
    old = restore.place.replaced()
    if old is not None and kept is None:
        totals = msgspec.json.decode((restore.folder / "totals.json").read_bytes())
        blocks = {t: {int(n): Block(count, int(digest)) for n, (count, digest) in some.items()}
                  for t, some in totals.items()}
        database = old.open(readonly=True)
        try:
            now = database.tables()
            late = late_rows(database, {t: b for t, b in blocks.items() if t in now})
        finally:
            database.close()
        if late:
            again = restore.safety.with_name(restore.safety.name.replace(".tar", "-last.tar"))
            again.unlink(missing_ok=True)
            backup(restore.site, again, rows_of=old, rest_of=restore.safety)
            again.replace(restore.safety)
        journal.write(journals.Step.KEPT, late=late)
    switch = restore.switch
    for path in switch.makes:
        mode = restore.folders.get(path)
        if mode is not None and switch.target.is_folder(path):
            switch.target.give(path, switch.target.owner(path), mode)
    switch.forward()
    switch.tidy()
    restore.place.discard()
    _clear_copies(restore.folder)
    return late


def _clear_copies(folder: Path) -> None:
    """Remove the files that were unpacked, and those that were replaced: the backup made before has them."""
    with suppress(OSError, NostosError):
        kept.let_go(folder)
    for name in ("source", "before"):
        shutil.rmtree(folder / name, ignore_errors=True)


def recover(folder: Path) -> str:
    """Finish or take back an interrupted restore. Returns how it ended. Raises NostosError when the site cannot be
    used; then nothing was changed, and it can be run again."""
    steps = {line["step"]: line for line in journals.read(folder)}
    begun = steps[journals.Step.PLAN]
    site = recognise(begun["site"])
    with holding(site, recovering=folder.name) as hold:
        ended = _recover(site, folder, begun, steps)
        hold.end(folder.name)
        return ended


def _recover(site: Site, folder: Path, begun: Mapping[str, Any], steps: Mapping[str, Mapping[str, Any]]) -> str:
    place = site.database.engine.swap(site.database, folder, folder.name)
    tables: list[str] = begun["tables"]
    switch = Switch.recorded(
        site.files, tree_at(folder / "source"), folder.name, Side.LIVE, steps[journals.Step.STAGING]["switch"],
        folder / journals.KEPT,
        steps.get(journals.Step.STAGED, {}).get("fresh", {})) if journals.Step.STAGING in steps else Switch(
            site.files, tree_at(folder / "source"), folder.name, Side.LIVE)
    journal = journals.Journal(folder)
    try:
        if journals.Step.COMMITTED in steps or (journals.Step.STAGED in steps and place.committed()):
            outline = msgspec.json.decode((folder / "outline.json").read_bytes(), type=Outline)
            _finish(_Committed(site, folder, place, switch, outline, tables,
                               Path(steps.get(journals.Step.SAFETY, begun)["safety"])),
                    journal, steps.get(journals.Step.KEPT))
            journal.write(journals.Step.SETTLED, recovered=True)
            return "finished"
        switch.back(journals.Step.STAGED in steps)
        place.discard()
        _clear_copies(folder)
        journal.write(journals.Step.TAKEN_BACK, why="recovered")
        return "taken back"
    finally:
        journal.close()


def in_doubt(error: BaseException) -> MergeInterrupted:
    """A restore that has to be finished or taken back later, for now it cannot be."""
    return MergeInterrupted(f"The restore was interrupted: {explained(error)}.",
                            left="It is finished or taken back by the next step, never left between.",
                            next_step="When the cause is gone, run `nostos recover`.")


def readable(error: BaseException) -> NostosError:
    """An error that a user can read, for what stopped a restore that was taken back."""
    if isinstance(error, NostosError):
        return error
    left = "Everything was taken back; the site is as it was."
    if not isinstance(error, Exception):
        return Stopped("It was stopped before the backup was in place.", left, "Run it again when you like.")
    return MergeRefused(f"The restore failed: {explained(error)}.", left, "Mend the cause, then restore again.")
