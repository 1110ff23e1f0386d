"""Bringing a selection home: prepare, journal, stage, commit, switch, settle (design, section 5).

Files are renamed into place inside the database transaction, as its last act before commit. So a rename that fails
takes the database back with it, and a commit that fails takes the renames back: live is never left between.
"""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import ExitStack, suppress
from dataclasses import replace
from functools import partial
from time import monotonic, sleep
from typing import Any

import msgspec

from nostos.core.anchor.names import CanonicalName, RowName, Side
from nostos.core.anchor.open_voyage import Crew
from nostos.core.apply import notes
from nostos.core.apply.files.switch import Switch
from nostos.core.apply.ledger import Ledger, Line
from nostos.core.apply.notes import AnchorNotes
from nostos.core.apply.rows.changed import RowChange
from nostos.core.apply.rows.foreign_keys import check_parents, may_check_itself
from nostos.core.apply.rows.loose import LooseRows, put_back
from nostos.core.apply.rows.write import CommitResult, RowWork, apply_rows
from nostos.core.apply.schema import (
    TakenStep,
    add_constraints,
    apply_schema,
    drop_schema,
    fill,
    take_back_schema,
)
from nostos.core.apply.settle import settle, settle_ahead, settle_fresh
from nostos.core.apply.verify import Removals
from nostos.core.clock import now
from nostos.core.compare.items import Item, SchemaAction
from nostos.core.database.marker import MARKER, marked
from nostos.core.database.protocol import Database
from nostos.core.database.schema import NAMED, Table
from nostos.core.errors import (
    Disturbed,
    HostLost,
    MergeInterrupted,
    MergeRefused,
    NostosError,
    Stopped,
    TargetMoved,
    explained,
)
from nostos.core.files.trees import tree_at
from nostos.core.plan import conditions
from nostos.core.plan.obstacles import referred_again
from nostos.core.plan.operations import (
    InsertRow,
    PutFile,
    RemoveFile,
    SchemaOperation,
    SwitchFolder,
    as_data,
    changes_of,
)
from nostos.core.plan.prepared import PreparedMerge, prepare
from nostos.core.progress import Listener, Progress, silent
from nostos.core.records import dataclass
from nostos.core.sites.lock import Hold, holding
from nostos.core.sites.recognise import recognised_from
from nostos.core.undisturbed import not_collecting, undisturbed
from nostos.core.voyages import journal as journals
from nostos.core.voyages import kept
from nostos.core.voyages.home import Home

_TRIES = 3
_PATIENCE_SECONDS = 30.0  # how long a transaction that the database breaks off is tried again


@dataclass(frozen=True)
class MergeResult:
    """What a merge did. renumbered: kind, staging's key and live's for every row that came home under a new key.

    between: seconds that live spent between two states. locked: seconds for which rows of it were locked. tries: how
    often it was prepared. carried: paths of what live itself wrote meanwhile into a folder that was switched; it was
    taken along. late: how many things that live had gained it has changed itself since. dangling: rows that have come
    to refer, in the very moment, to what the merge removed.
    """

    id: str
    ledger: tuple[Line, ...]
    renumbered: tuple[tuple[str, str, str], ...]
    clashes: tuple[Item, ...]
    between: float
    locked: float
    tries: int
    seconds: float
    carried: tuple[str, ...] = ()
    late: int = 0
    dangling: tuple[str, ...] = ()


def merge(home: Home, crew: Crew, prepared: PreparedMerge, tell: Listener = silent) -> MergeResult:
    """Carry out a prepared merge.

    With no operations nothing at all is done. Where live has moved since, it is prepared again, a bounded number of
    times, as long as the same items go home.
    Raises TargetMoved, MergeRefused or Stopped with live as it was; MergeInterrupted when it is on live and only the
    voyage's records could not follow, or when it cannot be told now.
    """
    start = monotonic()
    if not prepared.acts:
        return MergeResult("", (), (), prepared.plan.selection.clashes, 0.0, 0.0, 0, 0.0)
    if prepared.traces and not prepared.made.as_written:
        first = prepared.traces[0]
        raise MergeRefused(
            f"{len(prepared.traces)} texts would go home that still speak of staging, such as {first.place} of "
            f"{first.item}: {first.text}.", next_step="Mend them in staging, leave those items out, or take them as "
            "they are with --as-written.")
    with holding(crew.live if prepared.toward is Side.LIVE else crew.staging) as hold:
        return _merge(home, crew, prepared, tell, start, hold)


def _merge(home: Home, crew: Crew, prepared: PreparedMerge, tell: Listener, start: float, hold: Hold) -> MergeResult:
    wanted = [i.id for i in prepared.plan.selection.items]
    for attempt in range(1, _TRIES + 1):
        try:
            return _Merge(home, crew, prepared, tell, hold).run(attempt, start)
        except TargetMoved as moved:
            if attempt == _TRIES or (isinstance(moved, Disturbed) and monotonic() - start > _PATIENCE_SECONDS):
                raise
        again = prepared.again() if prepared.again else prepare(crew, prepared.choice, tell, prepared.toward)
        prepared = replace(again, journals=prepared.journals)
        if [i.id for i in prepared.plan.selection.items] != wanted:
            raise TargetMoved(f"{prepared.toward.capitalize()} moved on meanwhile, and what would go is no longer what "
                              "you saw.",
                            next_step="Run merge again and look at the new list.")
    raise AssertionError("unreachable")


def _undo_row(change: RowChange) -> dict[str, Any]:
    return {"table": change.table, "key": list(change.key), "before": change.before, "after": change.after}


class _Merge:
    def __init__(self, home: Home, crew: Crew, prepared: PreparedMerge, tell: Listener, hold: Hold) -> None:
        self.crew = crew
        self.hold = hold
        self.toward = prepared.toward
        self.target, self.source = (
            (crew.live, crew.staging) if self.toward is Side.LIVE else (crew.staging, crew.live))
        self.prefer = prepared.made.prefer
        self.undoes = prepared.undoes
        self.source_files = prepared.files or (
            tree_at(kept.place_of(home.folder(crew.voyage.name) / "merges" / self.undoes)) if self.undoes
            else self.source.files)
        self.comparison = prepared.comparison
        self.plan = prepared.plan
        self.tell = tell
        self.detached = prepared.journals is not None
        place = prepared.journals or home.folder(crew.voyage.name) / "merges"
        self.id = journals.new_id(place)
        self.folder = place / self.id
        self.verb = "undo" if self.undoes else "merge" if self.toward is Side.LIVE else "refresh"
        self.between = self.locked = 0.0
        self.switched = False
        self.steps: list[TakenStep] = []
        self.stays: list[str] = []  # of these steps, what could not be taken back without a loss
        self.loose = LooseRows()
        self.notes = self.rest = self.fresh = AnchorNotes()
        self.ahead: frozenset[RowName] = frozenset()  # rows that `rest` tells of already
        self.foreseen: list[RowChange] = []  # what is known, and kept for an undo, before anything is held
        self.result: CommitResult | None = None

    def run(self, tries: int, start: float) -> MergeResult:
        """Carry the merge out: journal, files laid beside their targets, the transaction, the switch, what follows.
        tries: how many it took to get here. start: `monotonic` when it began. Returns what it came to. Raises
        MergeRefused with everything taken back, TargetMoved where it may start again, and MergeInterrupted where only
        `recover` can say how it ended."""
        try:
            journal = journals.Journal(self.folder)
        except OSError as error:
            raise MergeRefused(f"The {self.verb} cannot keep its journal: {explained(error)}.",
                               next_step="Free space or rights here, then merge again.") from error
        switch = Switch(self.target.files, self.source_files, self.id, self.toward)
        began = False
        try:
            try:
                journal.write(journals.Step.PLAN, merge=self.id, voyage=self.crew.voyage.name, at=now(),
                              toward=self.toward,
                              undoes=self.undoes, detached=recognised_from(self.target) if self.detached else None,
                              called=dict(self.target.files.called),
                              operations=[as_data(o) for o in self.plan.operations],
                              conditions=[conditions.as_data(c) for c in self.plan.conditions])
                self.hold.begin(self.id, self.crew.voyage.name)
                self.tell(Progress("staging files", 0, None, "files"))
                switch.plan(self.plan.operations, self.plan.about(conditions.FileAs))
                journal.write(journals.Step.STAGING, switch=switch.record())
                switch.stage(self.plan.operations, partial(kept.begin, self.folder, self.target.files))
                switch.keep_record(self.folder / journals.KEPT)
                journal.write(journals.Step.STAGED, fresh=switch.fresh)
                began = True
                self._commit(journal, switch)
            except BaseException as error:
                with undisturbed():
                    if not self._committed_after_all(error):
                        self._take_back(switch, began, journal, error)
                        refusal = self._explained(error, switch)
                        if refusal is error:  # it has its first cause with it already
                            raise
                        raise refusal from error
                if not isinstance(error, Exception):
                    raise self._stopped_late(error) from error
            assert self.result is not None
            done = self.result
            try:
                lines, late, again = self._finish(journal, switch)
            except BaseException as error:
                if not isinstance(error, Exception):
                    raise self._stopped_late(error) from error
                raise MergeInterrupted(
                    f"The {self.verb} is {self.toward.where}, whole, but the voyage's records could not follow: "
                    f"{explained(error)}.",
                    left=f"{self.toward.capitalize()} is as the {self.verb} wanted it.",
                    next_step=("See that the host can be reached" if isinstance(error, HostLost) else
                               "Free space or rights here") + f", then run `nostos recover {self.crew.voyage.name}`."
                ) from error
        finally:
            journal.close()
        return MergeResult(self.id, lines, self._renumbered(done), self.plan.selection.clashes, self.between,
                           self.locked,
                      tries, monotonic() - start, tuple(switch.carried), late, again)

    def _finish(self, journal: journals.Journal, switch: Switch) -> tuple[tuple[Line, ...], int, tuple[str, ...]]:
        """After the commit. Returns the ledger's lines, how many things of what live gained it has changed itself
        meanwhile, and what has come to refer to something that is gone now."""
        with suppress(OSError):
            journal.write(journals.Step.COMMITTED)
        switch.tidy()
        target_db = self.target.open()
        try:
            if not target_db.transactional_schema:  # where it cannot be taken back, it comes last
                self._drop(target_db, journal)
            lines, late = self.ledger.look_again(target_db, self.target.files)
            again = referred_again(self.comparison, self.plan.selection.items, target_db)
        finally:
            target_db.close()
        if not self.detached:  # no voyage, no anchor: a voyage of this site takes it for live's own work
            self.notes.carry_out(self.crew.anchor, self.id, self.target.files, self.source_files)
        else:
            with suppress(OSError, NostosError):  # the backup made before has it
                kept.let_go(self.folder)
        with suppress(OSError):
            journal.write(journals.Step.SETTLED)
            self.hold.end(self.id)
        return lines, late, again

    def _stopped_late(self, error: BaseException) -> MergeInterrupted:
        return MergeInterrupted(
            f"You stopped it after the {self.verb} had reached {self.toward}."
            if isinstance(error, KeyboardInterrupt) else
            f"It was stopped after the {self.verb} had reached {self.toward} ({type(error).__name__}).",
            left=f"The {self.verb} is {self.toward.where}, whole; the voyage's records do not know it yet.",
            next_step=f"Run `nostos recover {self.crew.voyage.name}`: it finishes what is left.")

    def _committed_after_all(self, error: BaseException) -> bool:
        """Whether the transaction was committed although its end was not heard of. Raises MergeInterrupted when that
        cannot be found out now."""
        if self.result is None:
            return False  # it had not come to its end
        try:
            database = self.target.open()
        except NostosError:
            raise self._in_doubt("The connection to the database broke in the moment of the commit.") from error
        try:
            return marked(database, self.id)
        except Exception:
            raise self._in_doubt("The connection to the database broke in the moment of the commit.") from error
        finally:
            database.close()

    def _take_back(self, switch: Switch, began: bool, journal: journals.Journal, error: BaseException) -> None:
        """Files, and schema steps that no transaction covers, over a connection of its own: the other may be gone."""
        try:
            switch.back(began)
            if self.steps or self.loose.notes:
                database = self.target.open()
                try:
                    self._put_back_loose(database)
                    self.stays += take_back_schema(self.steps, database)
                finally:
                    database.close()
        except Exception as again:
            raise self._in_doubt(f"The {self.verb} failed ({explained(error)}), and not all of it could be taken back "
                                 f"({explained(again)}).") from error
        with suppress(OSError):  # the disk may be full; the marker in live's database tells as well
            journal.write(journals.Step.TAKEN_BACK, why=type(error).__name__)
        try:
            self.hold.end(self.id)
        except (OSError, NostosError) as again:
            raise MergeInterrupted(
                f"The {self.verb} failed ({explained(error)}) and was taken back, but the mark that it had laid on "
                f"{self.toward} may still be there ({explained(again)}).",
                left=f"{self.toward.capitalize()} is as it was; nothing else is merged there while the mark is.",
                next_step=f"When the cause is gone, run `nostos recover {self.crew.voyage.name}`.") from error
        with suppress(OSError, NostosError):
            kept.let_go(self.folder)

    def _put_back_loose(self, database: Database) -> None:
        """Put back what no transaction has taken back."""
        notes, self.loose.notes = self.loose.notes, []
        self.stays += put_back(notes, database)

    def _explained(self, error: BaseException, switch: Switch) -> NostosError:
        """An error that a user can read, for whatever stopped a merge before its commit."""
        if isinstance(error, NostosError):
            refusal = error
        elif isinstance(error, Exception):
            refusal = MergeRefused(f"The {self.verb} failed: {explained(error)}.",
                                 left=f"Everything was taken back; {self.toward} is as it was.",
                                 next_step="Mend the cause, then merge again.")
        else:
            refusal = Stopped(f"It was stopped before it had reached {self.toward}.",
                            left=f"Everything was taken back; {self.toward} is as it was.",
                            next_step="Run it again when you like.")
        if self.stays:
            refusal.left += f" But for {'; '.join(self.stays)}: that stays as the {self.verb} had made it."
        if switch.carried:
            refusal.left += (f" What {self.toward} itself had written meanwhile was kept: "
                             f"{', '.join(switch.carried[:5])}.")
        return refusal

    def _in_doubt(self, what: str) -> MergeInterrupted:
        return MergeInterrupted(what, left="It is finished or taken back by the next step, never left between.",
                                next_step=f"When the cause is gone, run `nostos recover {self.crew.voyage.name}`.")

    def _owners(self) -> list[tuple[Any, ...]]:
        """What an undo takes back, by whose the anchor's records of it are: rows by live's keys, files by paths."""
        return [*((s.table, *(s.source_key or s.target_key or ())) for s in self.plan.settles),
                *((f.path,) for f in self.plan.settled_files)]

    def _beforehand(self, done: CommitResult, tables: dict[str, Table], journal: journals.Journal) -> None:
        """Of rows that are known as they will be, before anything is locked: the ledger's proof, what an undo needs,
        what the anchor will be told."""
        self.foreseen = list(done.changed)
        self.ledger.foresee(self.foreseen)
        journal.keep_undo_ahead(map(_undo_row, self.foreseen))
        if not self.detached and not self.undoes:
            self.fresh = settle_fresh(self.crew.anchor, self.comparison, self.plan, done, tables, self.toward)
            self.fresh.write(self.folder, notes.AHEAD)

    def _note(self, done: CommitResult, tables: dict[str, Table]) -> None:
        """What the anchor will be told, worked out from what the transaction did, and kept."""
        if self.detached or self.undoes:
            self.notes = AnchorNotes() if self.detached else self._reverted(done)
            self.notes.write(self.folder)
            return
        taken = settle(self.crew.anchor, self.comparison, self.plan, done, tables, self.toward, self.ahead)
        taken.write(self.folder, before=notes.AHEAD if self.fresh.lines else "",
                    after=notes.REST if self.rest.lines else "")
        self.notes = AnchorNotes([*self.fresh.lines, *taken.lines, *self.rest.lines])

    def _reverted(self, done: CommitResult) -> AnchorNotes:
        """What the anchor forgets with an operation that is taken back."""
        reverted = AnchorNotes()
        reverted.revert(self.undoes, [*self._owners(), *((table, *key) for table, key in done.moved)])
        for o in self.plan.of(SchemaOperation):
            if (o.step.action, o.step.what) == (SchemaAction.DROP, "table"):
                reverted.forget_table(o.step.table)
        return reverted

    def _undo_files(self) -> Iterator[dict[str, Any]]:
        for o in self.plan.of(PutFile, RemoveFile, SwitchFolder):
            for change in changes_of(o):
                yield {"path": change.path, "before": msgspec.to_builtins(change.before, builtin_types=(bytes,)),
                       "after": msgspec.to_builtins(change.entry, builtin_types=(bytes,))
                       if isinstance(change, PutFile) else None}

    def _undo_schema(self) -> Iterator[dict[str, Any]]:
        """Steps that dropped or added something, with the table as it was, or as it came."""
        for o in self.plan.of(SchemaOperation):
            rows = self.comparison.rows
            tables = rows.target_tables if o.step.action is SchemaAction.DROP else rows.source_tables
            if o.step.action is not SchemaAction.CHANGE:
                yield {"action": o.step.action, "what": o.step.what, "name": o.step.name,
                       "table": msgspec.to_builtins(tables[o.step.table])}

    def _bring_back(self, target_db: Database) -> None:
        """Fill tables and columns that the operation which is taken back had dropped."""
        for o in self.plan.of(SchemaOperation) if self.undoes else ():
            step = o.step
            kept = journals.dropped(self.folder.parent / self.undoes, f"{step.what}-{step.table}-{step.name}")
            if step.action is SchemaAction.ADD and kept.is_file():
                fill(self.comparison.rows.source_tables[step.table], target_db, journals.dropped_rows(kept),
                     step.what == "table")

    def _commit(self, journal: journals.Journal, switch: Switch) -> None:
        """Schema steps that no transaction covers, then the transaction; again where the database broke it off.

        Before: files are laid beside their targets and in the journal. One connection writes, and it is strict: a value
        that would be cut is refused. Steps and loose rows are journaled before each is made, so that a crash leaves
        what `recover` can take back; after a lost connection a new one puts loose rows back before it tries again.
        """
        self.ledger = Ledger(self.comparison, self.plan)
        target_db = self.target.open()
        try:
            target_db.be_strict()
            if not target_db.transactional_schema:
                target_db.prepare_mark(MARKER)

                def note(step: TakenStep) -> None:
                    journal.write(journals.Step.SCHEMA, change=step.data())
                    self.steps.append(step)

                apply_schema(self.plan, self.comparison.rows, target_db, note)
            self.ledger.look(target_db, self.target.files)
            tables = target_db.tables()
            if not self.undoes and not self.detached:
                self.rest, self.ahead = settle_ahead(self.crew.anchor, self.comparison, self.plan, tables,
                                                     self.toward)
                if self.rest.lines:
                    self.rest.write(self.folder, notes.REST)
            self.loose = LooseRows(target_db.without_transactions(),
                                   lambda text: journal.write(journals.Step.LOOSE, rows=text))
            until = monotonic() + _PATIENCE_SECONDS
            pause = 0.05
            while True:
                removals = Removals(self.comparison, self.plan, target_db)
                switch.catch_up()
                self.hold.check()
                try:
                    self._transaction(target_db, journal, switch, removals, tables)
                    return
                except Disturbed:
                    if self.switched or monotonic() + pause > until:
                        raise
                sleep(pause)
                pause = min(2 * pause, 2.0)
                target_db.close()
                target_db = self.target.open()
                target_db.be_strict()
                self._put_back_loose(target_db)
        finally:
            target_db.close()

    def _transaction(self, target_db: Database, journal: journals.Journal, switch: Switch,
                     removals: Removals, tables: dict[str, Table]) -> None:
        """Everything that happens on live, while visitors may have to wait: only rows and files that the merge itself
        touches are looked at here, and what an index leads to.

        One transaction, at the isolation that the engine's `writing` begins. It holds the rows that it touches from
        `apply_rows` on. The marker is written in it, so it is there if and only if the rows are. Before the commit the
        ledger is proved, the undo's records and the anchor's notes are on the disk, COMMITTING is in the journal, and
        files are renamed, last. A crash up to here leaves the rows as they were, and `recover` renames files back; a
        crash after the commit leaves rows and marker, and `recover` goes forward. Where the commit's answer is lost,
        the marker says which it was.
        """
        rows = self.comparison.rows
        unchecked = may_check_itself(self.plan, target_db, rows.target_tables, rows.profile.clear)
        self.fresh, self.foreseen = AnchorNotes(), []
        self.ledger.foresee([])
        work = RowWork(self.plan, rows, target_db, tables, {
            (s.table, s.name): s.filled for i in self.comparison.items.values() for s in i.schema}, self.loose)
        work.look_ahead()
        with not_collecting(), ExitStack() as calm, target_db.writing(unchecked, work.new_first):
            locking = monotonic()
            removals.still(target_db)
            self.ledger.begin(target_db)
            self.tell(Progress("writing rows", 0, len(self.plan.operations), "operations"))
            done = apply_rows(work, lambda done: self._beforehand(done, tables, journal))
            if unchecked:
                check_parents(done.changed, target_db, tables)
            self._bring_back(target_db)
            for table in rows.profile.clear:
                if table in rows.target_tables:
                    target_db.clear(table)
            settings = rows.profile.settings
            if settings is not None and rows.profile.clear_settings:
                for name in settings.tables:
                    target_db.clear(name, settings.name, rows.profile.clear_settings)
            target_db.mark(MARKER, self.id, now())
            known = {id(c) for c in self.foreseen}
            found_out = [c for c in done.changed if id(c) not in known]
            self.ledger.prove(target_db, found_out)
            journal.keep_undo(map(_undo_row, found_out), self._undo_files(), self._undo_schema(), bool(known))
            self._note(done, tables)
            if target_db.transactional_schema:
                self._drop(target_db, journal)
                add_constraints(self.plan, rows, target_db)
            calm.enter_context(undisturbed())
            journal.write(journals.Step.COMMITTING)
            began = monotonic()
            self.switched = True
            switch.go()
            self.result = done  # from here on it may be committed, whatever is heard of it
        self.between = monotonic() - began if switch.moves else 0.0
        self.locked = monotonic() - (done.locking or locking)

    def _drop(self, target_db: Database, journal: journals.Journal) -> None:
        """Drop what was named to be dropped, with what it held kept in the journal's folder."""
        for operation in self.plan.of(SchemaOperation):
            step = operation.step
            if step.action is SchemaAction.DROP and step.what not in NAMED:
                table = self.comparison.rows.target_tables[step.table]
                columns = table.stored if step.what == "table" else (*table.key, step.name)
                journal.keep_rows(f"{step.what}-{step.table}-{step.name}", columns, target_db.scan(table, columns))
        drop_schema(self.plan, target_db)

    def _renumbered(self, done: CommitResult) -> tuple[tuple[str, str, str], ...]:
        renumbered = []
        for o in self.plan.of(InsertRow):
            key = done.keys.get((o.table, str(o.name[0])))
            number = CanonicalName.parse(o.name[0]).number if key is not None else None
            if number != key:
                renumbered.append((o.table, str(number), str(key)))
        return tuple(renumbered)
