"""Bringing a selection home: prepare, journal, stage, commit, switch, settle (design, section 5).

Files are renamed into place inside the database transaction, as its last act before commit. So a rename that fails
takes the database back with it, and a commit that fails takes the renames back: live is never left between.
"""

from __future__ import annotations

import os
import re
from collections.abc import Callable, Iterator, Mapping, Sequence
from contextlib import suppress
from dataclasses import dataclass, field, replace
from pathlib import Path
from time import monotonic
from typing import Any

import msgspec

from nostos.core import needs as need_finder
from nostos.core.apply import journal as journals
from nostos.core.apply.commit import Committed, apply_rows, apply_schema, drop_schema, fill, take_back_schema
from nostos.core.apply.ledger import Ledger, Line
from nostos.core.apply.marker import MARKER, marked
from nostos.core.apply.settle import settle
from nostos.core.apply.switch import Switch
from nostos.core.busy import holding
from nostos.core.compare import Pairs, compare_rows
from nostos.core.database.base import Database
from nostos.core.database.schema import Value
from nostos.core.decisions import Decision, decide
from nostos.core.errors import LiveMoved, MergeInterrupted, MergeRefused, NostosError, SiteError
from nostos.core.files import compare_files
from nostos.core.history import now
from nostos.core.items import Comparison, Item, assemble
from nostos.core.keys import Side
from nostos.core.mirror import mirrored, turned
from nostos.core.needs import Needs
from nostos.core.operations import InsertRow, Plan, PutFile, RemoveFile, RemoveRow, SchemaOperation, SwitchFolder, plan
from nostos.core.profiles.model import Profile
from nostos.core.progress import Listener, Progress, silent
from nostos.core.schema_steps import schema_items
from nostos.core.selection import Choice, choose
from nostos.core.site import recognised_from
from nostos.core.tree.entries import digest_file, inside
from nostos.core.voyage import Crew, Home

DEFAULT = Choice()
ChoiceOf = Callable[[Comparison], Choice]  # a choice that rests on what a comparison finds
_TRIES = 3


@dataclass(frozen=True)
class Prepared:
    """A merge ready to be shown and carried out."""

    comparison: Comparison
    needs: Needs
    plan: Plan
    choice: Choice | ChoiceOf = DEFAULT
    toward: Side = Side.LIVE
    made: Choice = DEFAULT  # the choice as it was made for this comparison
    undecided: Mapping[str, Item] = field(default_factory=dict)  # the items before clashes were decided
    undoes: str = ""  # the operation that it takes back
    again: Callable[[], Prepared] | None = None  # how it is prepared once more, if not as a merge is
    files: Path | None = None  # where what comes lies, if not in the other side's tree
    journals: Path | None = None  # where its journal is kept, for an operation of no voyage

    @property
    def acts(self) -> bool:
        """Whether carrying it out does anything: on the target, or in what counts as decided."""
        return bool(self.plan.operations or self.plan.selection.kept)


@dataclass(frozen=True)
class Merged:
    """What a merge did. renumbered: kind, staging's key and live's for every row that came home under a new key.

    between: seconds that live spent between two states. locked: seconds for which rows of it were locked. tries: how
    often it was prepared.
    """

    id: str
    ledger: tuple[Line, ...]
    renumbered: tuple[tuple[str, str, str], ...]
    clashes: tuple[Item, ...]
    between: float
    locked: float
    tries: int
    seconds: float


def look(crew: Crew, tell: Listener = silent, toward: Side = Side.LIVE,
         prefer: Callable[[Comparison], Sequence[Decision]] = lambda _: (),
         pairs: Pairs | None = None) -> tuple[Comparison, Needs]:
    """Compare the two sites of a voyage, seen from the side that a merge is to write. prefer: how clashes are decided.
    pairs: see compare_rows. Reads both, changes neither."""
    live_db, staging_db = crew.live.open(readonly=True), crew.staging.open(readonly=True)
    try:
        with live_db.reading(), staging_db.reading():
            return _compared(crew, live_db, staging_db, tell, prefer, toward, pairs)
    finally:
        live_db.close()
        staging_db.close()


def _compared(crew: Crew, live_db: Database, staging_db: Database, tell: Listener,
              prefer: Callable[[Comparison], Sequence[Decision]], toward: Side,
              pairs: Pairs | None) -> tuple[Comparison, Needs]:
    tell(Progress("comparing rows", 0, None, "tables"))
    rows = compare_rows(crew.anchor, crew.live, live_db, crew.staging, staging_db, pairs)
    tell(Progress("comparing files", 0, None, "files"))
    files = compare_files(crew.anchor, crew.live, crew.staging, _with_skipped(crew, rows.profile))
    comparison = assemble(crew.anchor, rows, files, schema_items(rows), staging_db, live_db)
    decisions = prefer(comparison)
    if decisions:
        first = replace(comparison, items=dict(comparison.items))
        need_finder.resolve(first, live_db)
        decide(comparison, decisions, {i.id: i.reason for i in first.items.values() if i.reason})
    if toward is Side.STAGING:
        comparison = mirrored(comparison, staging_db)
        needs = need_finder.resolve(comparison, staging_db)
        for item in list(comparison.items.values()):  # what stands in the way is told in the words of the real sides
            if item.reason:
                comparison.items[item.id] = replace(item, reason=turned(item.reason))
        return comparison, needs
    return comparison, need_finder.resolve(comparison, live_db)


def _with_skipped(crew: Crew, profile: Profile) -> Profile:
    return replace(profile, ignore=(*profile.ignore, *(crew.anchor.fact("skip") or ())))


def prepare(crew: Crew, choice: Choice | ChoiceOf = DEFAULT, tell: Listener = silent,
            toward: Side = Side.LIVE) -> Prepared:
    """Compare afresh and turn a choice into operations. toward: staging for a refresh, which is a merge with the roles
    changed. Raises SelectionError; changes nothing."""
    made = DEFAULT
    undecided: dict[str, Item] = {}

    def prefer(found: Comparison) -> Sequence[Decision]:
        nonlocal made
        made = choice(found) if callable(choice) else choice
        undecided.update(found.items)
        return made.prefer

    comparison, needs = look(crew, tell, toward, prefer)
    selection = choose(comparison, needs, made, lambda name: exists(crew, comparison, name))
    return Prepared(comparison, needs, plan(comparison, needs, selection), choice, toward, made, undecided)


def exists(crew: Crew, comparison: Comparison, name: str) -> bool:
    """Whether there is an item of this name (or, for a pattern, of this kind) that simply did not change."""
    profile = comparison.rows.profile
    kind_name, _, label = name.partition("/")
    pattern = any(c in name for c in "*?[")
    for folder in profile.folders:
        if folder.kind == kind_name:
            return pattern or (crew.live.files / folder.parent / label).is_dir()
    if kind_name == "file":
        try:
            return pattern or inside(crew.live.files, label).exists()
        except SiteError:
            return False
    kinds = [k for k in profile.kinds if k.name == kind_name or "{" in k.name]
    if not kinds or pattern:
        return bool(kinds) or name in ("*", "**")
    live_db = crew.live.open(readonly=True)
    try:
        for kind in kinds:
            table = comparison.rows.live_tables.get(kind.table)
            columns = (kind.label or table.key) if table else ()
            values = [label] if len(columns) == 1 else label.split(",")
            if table is not None and len(values) == len(columns):
                for typed in (values, [int(v) if v.isdigit() else v for v in values]):
                    wanted: dict[str, Value] = dict(zip(columns, typed, strict=True))
                    for column in re.findall(r"\{(\w+)\}", kind.name):
                        wanted[column] = kind_name
                    if kind.strip:
                        wanted = {c: kind.strip + str(v) if c in columns else v for c, v in wanted.items()}
                    if live_db.find(table, wanted):
                        return True
        return False
    finally:
        live_db.close()


def merge(home: Home, crew: Crew, prepared: Prepared, tell: Listener = silent) -> Merged:
    """Carry out a prepared merge.

    With no operations nothing at all is done. Where live has moved since, it is prepared again, a bounded number of
    times, as long as the same items go home.
    Raises LiveMoved or MergeRefused with live as it was; MergeInterrupted when only the anchor could not follow.
    """
    start = monotonic()
    if not prepared.acts:
        return Merged("", (), (), prepared.plan.selection.clashes, 0.0, 0.0, 0, 0.0)
    with holding(crew.live if prepared.toward is Side.LIVE else crew.staging):
        return _merge(home, crew, prepared, tell, start)


def _merge(home: Home, crew: Crew, prepared: Prepared, tell: Listener, start: float) -> Merged:
    wanted = [i.id for i in prepared.plan.selection.items]
    for attempt in range(1, _TRIES + 1):
        try:
            return _Merge(home, crew, prepared, tell).run(attempt, start)
        except LiveMoved:
            if attempt == _TRIES:
                raise
        prepared = prepared.again() if prepared.again else prepare(crew, prepared.choice, tell, prepared.toward)
        if [i.id for i in prepared.plan.selection.items] != wanted:
            raise LiveMoved("Live moved on meanwhile, and what would go home is no longer what you saw.",
                            next_step="Run merge again and look at the new list.")
    raise AssertionError("unreachable")


class _Merge:
    def __init__(self, home: Home, crew: Crew, prepared: Prepared, tell: Listener) -> None:
        self.crew = crew
        self.toward = prepared.toward
        self.target, self.source = (
            (crew.live, crew.staging) if self.toward is Side.LIVE else (crew.staging, crew.live))
        self.prefer = prepared.made.prefer
        self.undoes = prepared.undoes
        self.source_files = prepared.files or (
            home.folder(crew.voyage.name) / "merges" / self.undoes / "before" if self.undoes else self.source.files)
        self.comparison = prepared.comparison
        self.plan = prepared.plan
        self.tell = tell
        self.id = journals.new_id()
        self.detached = prepared.journals is not None
        self.folder = (prepared.journals or home.folder(crew.voyage.name) / "merges") / self.id
        self.between = self.locked = 0.0
        self.steps: list[dict[str, Any]] = []
        self.result: tuple[Committed, tuple[Line, ...]] | None = None

    def run(self, tries: int, start: float) -> Merged:
        live_db = self.target.open()
        journal = journals.Journal(self.folder)
        switch = Switch(self.target.files, self.source_files, self.id)
        began = False
        try:
            try:
                journal.write("plan", merge=self.id, voyage=self.crew.voyage.name, at=now(), toward=self.toward,
                              prefer=[[d.item, str(d.side), d.field] for d in self.prefer],
                              undoes=self.undoes, owners=self._owners(),
                              detached=recognised_from(self.target) if self.detached else None,
                              operations=[journals.as_data(o) for o in self.plan.operations])
                self.tell(Progress("staging files", 0, None, "files"))
                switch.plan(self.plan.operations)
                journal.write("staging", switch=switch.record())
                switch.stage(self.plan.operations, journal.before)
                journal.write("staged")
                began = True
                self._commit(live_db, journal, switch)
            except BaseException as error:
                if not self._committed_after_all(error):
                    self._take_back(switch, began, error)
                    with suppress(OSError):  # the disk may be full; the marker in live's database tells as well
                        journal.write("taken back", why=type(error).__name__)
                    explained = _explained(error)
                    if self.toward is Side.STAGING and isinstance(explained, NostosError):
                        explained.what, explained.left = turned(explained.what), turned(explained.left)
                    raise explained from error
                live_db.close()
                live_db = self.target.open()  # its connection may be gone
            assert self.result is not None
            done, lines = self.result
            try:
                with suppress(OSError):
                    journal.write("committed")
                switch.tidy()
                if not live_db.transactional_schema:  # where it cannot be taken back, it comes last
                    self._drop(live_db, journal)
                self._settle(live_db, done)
            except Exception as error:
                raise MergeInterrupted(
                    f"The merge is on live, whole, but the voyage's records could not follow: {error}.",
                    left="Live is as the merge wanted it.",
                    next_step=f"Free space or rights here, then run `nostos recover {self.crew.voyage.name}`."
                ) from error
            with suppress(OSError):
                journal.write("settled")
        finally:
            journal.close()
            live_db.close()
        return Merged(self.id, lines, self._renumbered(done), self.plan.selection.clashes, self.between, self.locked,
                      tries, monotonic() - start)

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

    def _take_back(self, switch: Switch, began: bool, error: BaseException) -> None:
        """Files, and schema steps that no transaction covers, over a connection of its own: the other may be gone."""
        try:
            switch.back(began)
            if self.steps:
                database = self.target.open()
                try:
                    take_back_schema(self.steps, database)
                finally:
                    database.close()
        except Exception as again:
            raise self._in_doubt(f"The merge failed ({_explained(error)}), and not all of it could be taken back "
                                 f"({again}).") from error

    def _in_doubt(self, what: str) -> MergeInterrupted:
        return MergeInterrupted(what, left="It is finished or taken back by the next step, never left between.",
                                next_step=f"When the cause is gone, run `nostos recover {self.crew.voyage.name}`.")

    def _owners(self) -> list[list[Any]]:
        """What an undo takes back, by whose the anchor's records of it are: rows by live's keys, files by paths."""
        if not self.undoes:
            return []
        return [*([s.table, *(s.staging_key or s.live_key or ())] for s in self.plan.settles),
                *([f.path] for f in self.plan.settled_files)]

    def _settle(self, live_db: Database, done: Committed) -> None:
        anchor = self.crew.anchor
        if self.detached:
            return  # no voyage, no anchor: a voyage of this site takes it for live's own work
        if self.undoes:
            with anchor.changing(), anchor.recording(self.id):
                anchor.revert(self.undoes, [tuple(o) for o in self._owners()])
                for o in self.plan.of(SchemaOperation):
                    if (o.step.action, o.step.what) == ("drop", "table"):
                        anchor.forget_table(o.step.table)
            return
        settle(anchor, self.comparison, self.plan, done, self.target, self.source, live_db, self.toward, self.id)

    def _undo_files(self) -> Iterator[dict[str, Any]]:
        for o in self.plan.of(PutFile, RemoveFile, SwitchFolder):
            changes: tuple[PutFile | RemoveFile, ...] = (
                (*o.puts, *o.removals) if isinstance(o, SwitchFolder) else (o,))
            for change in changes:
                yield {"path": change.path, "before": msgspec.to_builtins(change.before, builtin_types=(bytes,)),
                       "after": msgspec.to_builtins(change.entry, builtin_types=(bytes,))
                       if isinstance(change, PutFile) else None}

    def _undo_schema(self) -> Iterator[dict[str, Any]]:
        """Steps that dropped or added something, with the table as it was, or as it came."""
        for o in self.plan.of(SchemaOperation):
            rows = self.comparison.rows
            tables = rows.live_tables if o.step.action == "drop" else rows.staging_tables
            if o.step.action != "change":
                yield {"action": o.step.action, "what": o.step.what, "name": o.step.name,
                       "table": msgspec.to_builtins(tables[o.step.table])}

    def _bring_back(self, live_db: Database) -> None:
        """Fill tables and columns that the operation which is taken back had dropped."""
        for o in self.plan.of(SchemaOperation) if self.undoes else ():
            step = o.step
            kept = journals.dropped(self.folder.parent / self.undoes, f"{step.what}-{step.table}-{step.name}")
            if step.action == "add" and kept.is_file():
                fill(self.comparison.rows.staging_tables[step.table], live_db, journals.dropped_rows(kept),
                     step.what == "table")

    def _commit(self, live_db: Database, journal: journals.Journal, switch: Switch) -> None:
        live_db.be_strict()
        if not live_db.transactional_schema:
            live_db.prepare_mark(MARKER)

            def note(step: dict[str, Any]) -> None:
                journal.write("schema", change=step)
                self.steps.append(step)

            apply_schema(self.plan, self.comparison.rows, live_db, note)
        self._transaction(live_db, journal, switch)

    def _transaction(self, live_db: Database, journal: journals.Journal, switch: Switch) -> None:
        ledger = Ledger(self.comparison, self.plan)
        rows = self.comparison.rows
        with live_db.writing():
            before = ledger.digests(live_db, self._file_digest)
            locking = monotonic()
            if self.plan.of(RemoveRow):
                moved = need_finder.check_removals(self.comparison, live_db, self.plan.selection.items)
                if moved is not None:
                    raise LiveMoved(f"Live moved on meanwhile: {moved}.", next_step="Compare again.")
            self.tell(Progress("writing rows", 0, len(self.plan.operations), "operations"))
            done = apply_rows(self.plan, rows, live_db)
            self._bring_back(live_db)
            for table in rows.profile.clear:
                if table in rows.live_tables:
                    live_db.clear(table)
            settings = rows.profile.settings
            if settings is not None and rows.profile.clear_settings:
                live_db.clear(settings.table, settings.name, rows.profile.clear_settings)
            live_db.mark(MARKER, self.id, now())
            journal.keep_undo([{"table": c.table, "key": list(c.key), "before": c.before, "after": c.after}
                               for c in done.changed], self._undo_files(), self._undo_schema())
            journal.write("committing", keys=[[t, n, k] for (t, n), k in done.keys.items()])
            began = monotonic()
            switch.go()
            lines = ledger.prove(before, ledger.digests(live_db, self._file_digest))
            if live_db.transactional_schema:
                self._drop(live_db, journal)
            self.result = done, lines  # from here on it may be committed, whatever is heard of it
        self.between = monotonic() - began if switch.moves else 0.0
        self.locked = monotonic() - locking

    def _drop(self, live_db: Database, journal: journals.Journal) -> None:
        """Drop what was named to be dropped, with what it held kept in the journal's folder."""
        for operation in self.plan.of(SchemaOperation):
            step = operation.step
            if step.action == "drop" and step.what != "index":
                table = self.comparison.rows.live_tables[step.table]
                columns = table.stored if step.what == "table" else (*table.key, step.name)
                journal.keep_rows(f"{step.what}-{step.table}-{step.name}", columns, live_db.scan(table, columns))
        drop_schema(self.plan, live_db)

    def _file_digest(self, path: str) -> bytes | None:
        target = inside(self.target.files, path)
        if target.is_symlink():
            return os.fsencode(target.readlink())
        return digest_file(target) if target.is_file() else None

    def _renumbered(self, done: Committed) -> tuple[tuple[str, str, str], ...]:
        found = []
        for o in self.plan.of(InsertRow):
            key = done.keys.get((o.table, str(o.name[0])))
            if key is not None and str(o.name[0]) not in (f"s{key!r}", str(key)):
                found.append((o.table, str(o.name[0]).lstrip("sl"), str(key)))
        return tuple(found)


def _explained(error: BaseException) -> BaseException:
    """An error that a user can read, for whatever stopped a merge before its commit."""
    if isinstance(error, NostosError) or not isinstance(error, Exception):
        return error
    said = error.strerror if isinstance(error, OSError) and error.strerror else str(error)
    where = f" ({Path(str(error.filename)).name})" if isinstance(error, OSError) and error.filename else ""
    return MergeRefused(f"The merge failed: {said or type(error).__name__}{where}.",
                        left="Everything was taken back; live is as it was.",
                        next_step="Mend the cause, then merge again.")

