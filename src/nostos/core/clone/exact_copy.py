"""A copy of live at one moment, row for row and file for file, under live's own address: to try something out on.

It is never for people: it is reached on this machine only, while something is tried, and removed then. Its mail and its
jobs are off as a staging copy's are.
"""

from __future__ import annotations

import secrets
import shutil
from collections.abc import Iterator, Mapping
from contextlib import closing, contextmanager, suppress
from dataclasses import replace

from nostos.core.clock import now
from nostos.core.clone.asking import asked
from nostos.core.clone.clone import Cloning
from nostos.core.clone.copy_rows import differing
from nostos.core.clone.options import PLAIN
from nostos.core.clone.remove import remove
from nostos.core.database.protocol import Block, Database
from nostos.core.database.schema import Key, Row, Table, Value
from nostos.core.errors import SiteError, VoyageError
from nostos.core.files.entry import OWN_PREFIX, STAMP
from nostos.core.files.tree import SkippedFile
from nostos.core.files.trees import tree_at
from nostos.core.hosts.far_path import AnyPath, written
from nostos.core.profiles.model import ignored
from nostos.core.progress import Listener, Progress, silent
from nostos.core.records import dataclass
from nostos.core.sites.recognise import Site, recognise, recognised_from
from nostos.core.voyages.home import Home, Voyage

NAME = "rehearsal"
PLACE = "rehearsals"  # in a home
BESIDE = f"{OWN_PREFIX}rehearsal-"  # beside a site
_AT_ONCE = 5000  # rows that travel through this program
_BLOCKS = 256


@dataclass(frozen=True)
class ExactCopy:
    """A copy, as a site of its own. voyage: what was made for it, in the home that it was made with."""

    site: Site
    voyage: Voyage
    files: int
    file_bytes: int


class ExactCopying(Cloning):
    """A copy while it is made: its rows as long as live's moment is read from, the rest when it is finished."""

    @classmethod
    def begun(cls, home: Home, live: Site, folder: AnyPath, tell: Listener = silent) -> ExactCopying:
        """Begin to copy live into a new folder. home: a private one, for this copy alone: what is made is taken down
        there before it is made, so that it can be removed whatever happens, as `clear_copy` does."""
        passed: list[SkippedFile] = []
        entries = list(live.files.scan(live.foreign_paths(), ignored(live.profile), passed.append))
        home.make()
        database = live.database.engine.beside(live.database, live.home, folder, f"{NAME}_{secrets.token_hex(3)}")
        recognised = recognised_from(live)
        voyage = Voyage(NAME, secrets.token_hex(8), recognised, live.name, live.url,
                        str(folder / written(recognised).name) if live.site_file else str(folder), str(folder),
                        live.url, database.shown, now(), alone=True)
        copy = replace(live, home=folder, files=tree_at(folder), database=database)
        work = cls(home, voyage, live, copy, PLAIN, (entries, passed), tell)
        home.write(voyage)
        work.mark = ""
        work.place.make_root()
        work._closed(0o700)
        work.place.write(STAMP, voyage.id.encode() + b"\n", 0o600)
        return work

    @contextmanager
    def moment(self, seed: int) -> Iterator[Database]:
        """Live's database as it is at one moment, to be read from while its rows are copied. At the end they are there,
        and equal. seed: what fingerprints begin with. Raises SiteError where they cannot be."""
        with (self._moment() as (source, place, tables), closing(self._opened(place)) as target,
              source.keeping_sums(), _rows_copied(source, target, tables, self.tell, seed)):
            yield source

    def finish(self) -> ExactCopy:
        """Copy the files, and give the copy a configuration of its own. Raises SiteError."""
        sizes = [copied.entry.size for copied in self._copied(0)]
        self._guard_file()
        self._configuration()
        self._open_up(None)
        site = recognise(self.voyage.staging)
        if not site.database.same_as(self.database):
            raise SiteError("The copy's configuration does not lead to its own database.",
                            left="Live was only read; the copy was removed.",
                            next_step="Check that the site file names `database` plainly.")
        question = self.live.profile.question
        if question is not None:
            asked(question, self.target / self.inside, self.voyage.url, self.database)
        return ExactCopy(site, self.voyage, len(sizes), sum(sizes))

    def _fallback_prefix(self) -> str:
        return f"r{secrets.token_hex(2)}_{self.live.database.prefix}"


@contextmanager
def _rows_copied(source: Database, target: Database, tables: Mapping[str, Table], tell: Listener, seed: int
                 ) -> Iterator[None]:
    """Copy every row of the source's snapshot, as it is: inside a server while the snapshot is read from here, and
    what is left at the end. Raises SiteError where the copy is not equal to it."""
    outline = source.outline()
    target.build(outline)
    for name in outline.raw:
        target.put_raw(name, source.raw_rows(name))
    keyed = [t for t in tables.values() if t.key]
    inside = target.copy_inside(source, keyed, seed=seed, quick=True)
    arrived: dict[str, tuple[dict[int, Block], int | None]] = {}
    try:
        yield
        if inside is None:
            with target.writing():
                for table in tables.values():
                    _through_here(source, target, table)
                target.finish(outline)
        else:
            for table in tables.values():
                if not table.key:
                    _through_here(source, target, table)
            for number, table in enumerate(keyed, start=1):
                blocks = inside.wait(table.name)
                if blocks is None:  # it could not be copied inside the server
                    target.clear(table.name)
                    _through_here(source, target, table)
                else:
                    prints = inside.fingerprints(table.name)
                    arrived[table.name] = (blocks, None) if prints is None else (prints, seed)
                tell(Progress("database", number, len(keyed), "tables"))
            target.finish(outline)
    finally:
        if inside is not None:
            inside.close()
    for table in keyed:
        _check_equal(source, target, table, arrived.get(table.name))


def _through_here(source: Database, target: Database, table: Table) -> None:
    batch: list[tuple[Value, ...]] = []
    for values in source.scan(table, table.stored):
        batch.append(values)
        if len(batch) == _AT_ONCE:
            target.insert_many(table, table.stored, batch)
            batch = []
    target.insert_many(table, table.stored, batch)


def _check_equal(source: Database, target: Database, table: Table,
                 arrived: tuple[dict[int, Block], int | None] | None) -> None:
    """Hold the copy of a table against the snapshot, and mend what moved in between. arrived: the copy's blocks, if
    they are known, and what they begin with if they are fingerprints. Raises SiteError."""
    made, seed = (target.blocks(table, table.stored), None) if arrived is None else arrived
    then = source.sums_of([(table, table.stored)], seed)[0]
    doubtful = sorted(n for n in then.keys() | made.keys() if then.get(n) != made.get(n))
    for at in range(0, len(doubtful), _BLOCKS):
        part = doubtful[at:at + _BLOCKS]
        wanted: dict[Key, bytes] = dict(source.row_digests(table, table.stored, [n for n in part if n in then]))
        extra, wrong = differing(target, table, [n for n in part if n in made], wanted)
        for key in extra:
            target.remove(table, key)
        rows: list[Row] = list(source.fetch_many(table, wrong))
        target.replace_many(table, table.stored, [tuple(row[c] for c in table.stored) for row in rows])
    if doubtful and target.blocks(table, table.stored) != source.blocks(table, table.stored):
        raise SiteError(f"The copy's table {table.name} is not equal to live's snapshot.",
                        left="Live was only read; the copy was removed.", next_step="Please report this.")


def clear_copies(home: Home) -> list[str]:
    """Remove copies that were left when a rehearsal was killed. Returns their ids."""
    cleared = []
    for folder in sorted((home.path / PLACE).glob("*/")):
        inner = Home(folder)
        with suppress(VoyageError), inner.lock(NAME):  # one that is at work holds it
            clear_copy(inner)
            cleared.append(folder.name)
    return cleared


def clear_copy(inner: Home) -> None:
    """Remove a copy, and the private home that it was made with. Raises SiteError where something has to be left."""
    left = remove(inner, inner.read(NAME)) if NAME in inner.names() else []
    if left:
        raise SiteError(f"What a rehearsal had made could not be removed: {'; '.join(left)}.",
                        left="Live was not touched.", next_step="Remove that by hand, then run `nostos recover`.")
    shutil.rmtree(inner.path, ignore_errors=True)
