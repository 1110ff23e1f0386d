"""Copying live's rows of one moment into staging and into the anchor, and proving that they arrived.

Where both are in one server, rows are copied inside it, without locks, while this side reads the snapshot; blocks that
moved in between are found by their digests and mended from the snapshot. Elsewhere rows travel through this program.
"""

from __future__ import annotations

import tempfile
from collections.abc import Callable, Iterator, Mapping
from typing import IO

from nostos.core.anchor import ALWAYS_LOOK, Anchor
from nostos.core.database.base import Database, InsideCopy
from nostos.core.database.digests import block_of, pack, unpack
from nostos.core.database.schema import Key, Table, Value
from nostos.core.errors import NostosError
from nostos.core.keys import Side
from nostos.core.progress import Listener, Progress

Values = tuple[Value, ...]
Localise = Callable[[Table, Values], Values]
_ROWS_AT_ONCE = 16384
_BLOCKS_AT_ONCE = 256


class RowCopier:
    """Copies tables. localise: a row of live as staging has it. Afterwards `rows`, `rewritten` and `proved` say how
    many were copied, how many of them hold something local, and how many were read back and found equal."""

    def __init__(self, anchor: Anchor, source: Database, target: Database, localise: Localise, tell: Listener) -> None:
        self.anchor = anchor
        self.source = source
        self.target = target
        self.localise = localise
        self.tell = tell
        self.rows = 0
        self.rewritten = 0
        self.proved = 0

    def run(self, tables: Mapping[str, Table]) -> None:
        """Copy everything, inside the source's snapshot. Raises NostosError when staging is not equal to it."""
        self.tell(Progress("database", 0, None, "rows"))
        self.target.copy_schema(self.source, list(tables.values()))
        keyed = [t for t in tables.values() if t.key]
        inside = self.target.copy_inside(self.source, keyed)
        try:
            if inside is None:
                with self.target.writing():
                    self._all(tables, None)
                    self.target.finish_copy(self.source)
            else:
                self._all(tables, inside)
                self.target.finish_copy(self.source)
        finally:
            if inside is not None:
                inside.close()

    def _all(self, tables: Mapping[str, Table], inside: InsideCopy | None) -> None:
        for table in tables.values():
            for side in Side:
                self.anchor.remember_table(side, table)
            if table.key:
                _Table(self, table, inside).copy()
            else:
                rows, rewritten = self.insert_all(table)
                self.rows += rows
                self.rewritten += rewritten

    def insert_all(self, table: Table) -> tuple[int, int]:
        """Every row through this program, and nothing else. Returns how many, and how many hold something local."""
        batch: list[Values] = []
        rows = rewritten = 0
        for values in self.source.scan(table, table.stored):
            staged = self.localise(table, values)
            rewritten += staged != values
            rows += 1
            batch.append(staged)
            if len(batch) == _ROWS_AT_ONCE:
                self.target.insert_many(table, table.stored, batch)
                batch.clear()
        self.target.insert_many(table, table.stored, batch)
        return rows, rewritten


class _Table:
    """One keyed table on its way."""

    def __init__(self, copier: RowCopier, table: Table, inside: InsideCopy | None) -> None:
        self.copier = copier
        self.table = table
        self.inside = inside
        self.places = [table.stored.index(k) for k in table.key]
        self.moved: dict[Key, Key] = {}  # staging's keys that hold its own URL, and live's

    def copy(self) -> None:
        with tempfile.TemporaryFile() as spool:
            self._read(spool)
            if self.inside is not None:
                if self.inside.wait(self.table.name) and not self.moved:
                    for rows in _frames(spool):
                        self.copier.target.replace_many(self.table, self.table.stored, rows)
                else:  # it could not be copied inside the server
                    self.copier.target.clear(self.table.name)
                    self.copier.insert_all(self.table)
        self._prove()

    def _read(self, spool: IO[bytes]) -> None:
        """Read the snapshot into the anchor. Rows go to staging, or, where they are copied inside, only those into the
        spool that staging has otherwise."""
        anchor, table, copier = self.copier.anchor, self.table, self.copier
        base: dict[int, list[Values]] = {}
        known: dict[tuple[Side, int], dict[Key, bytes]] = {}
        batch: list[Values] = []

        def keep() -> None:
            if self.inside is None:
                copier.target.insert_many(table, table.stored, batch)
            elif batch:
                frame = pack(batch)
                spool.write(len(frame).to_bytes(8) + frame)
            for number, rows in base.items():
                anchor.add_base(table.name, number, rows)
            for (side, number), digests in known.items():
                anchor.add_rows(side, table.name, number, digests)
            for held in (base, known, batch):
                held.clear()
            copier.tell(Progress("database", copier.rows, None, "rows"))

        rows = copier.source.scan_digested(table, table.stored)
        first = self.places[0]
        single = len(self.places) == 1
        for count, (values, digest) in enumerate(rows, start=1):
            key = (values[first],) if single else tuple([values[p] for p in self.places])
            number = block_of(key)
            base.setdefault(number, []).append(values)
            known.setdefault((Side.LIVE, number), {})[key] = digest
            staged = copier.localise(table, values)
            if staged != values:
                copier.rewritten += 1
                own = tuple(staged[p] for p in self.places)
                if own != key:
                    self.moved[own] = key
                known.setdefault((Side.STAGING, block_of(own)), {})[own] = ALWAYS_LOOK
            else:
                known.setdefault((Side.STAGING, number), {})[key] = digest
            if self.inside is None or staged != values:
                batch.append(staged)
            copier.rows += 1
            if count % _ROWS_AT_ONCE == 0:
                keep()
        keep()

    def _prove(self) -> None:
        """Compare staging, block by block, with what the snapshot says it must be, and mend what differs, once."""
        anchor, table, target = self.copier.anchor, self.table, self.copier.target
        now = target.blocks(table, table.stored)
        then = anchor.blocks(Side.STAGING, table.name)
        doubtful = sorted(n for n in now.keys() | then.keys() if then.get(n) is None or now.get(n) != then[n])
        for at in range(0, len(doubtful), _BLOCKS_AT_ONCE):
            part = doubtful[at:at + _BLOCKS_AT_ONCE]
            expected = {k: d for n in part for k, d in anchor.known_rows(Side.STAGING, table.name, n).items()}
            found = self._settled(part, expected, mend=True)
            if found is None:
                found = self._settled(part, expected, mend=False)
            if found is None:
                raise NostosError(f"Staging's table {table.name} is not equal to live's snapshot.",
                                  left="Live was only read; the copy was removed.", next_step="Please report this.")
            by_block: dict[int, dict[Key, bytes]] = {}
            for key, digest in found.items():
                by_block.setdefault(block_of(key), {})[key] = digest
            for number, digests in by_block.items():
                anchor.add_rows(Side.STAGING, table.name, number, digests)
        self.copier.proved += sum(b.count for b in target.blocks(table, table.key).values()) if doubtful else sum(
            b.count for b in now.values())

    def _settled(self, numbers: list[int], expected: Mapping[Key, bytes], mend: bool) -> dict[Key, bytes] | None:
        """The digests of these blocks' rows in staging, when all are as they must be. None: they were mended, or (not
        to be mended any more) are wrong."""
        table, target, source = self.table, self.copier.target, self.copier.source
        found = dict(target.row_digests(table, table.stored, numbers))
        extra = [k for k in found if k not in expected]
        look = [k for k, d in expected.items() if d == ALWAYS_LOOK or found.get(k) != d]
        there = {table.key_of(r): r for r in target.fetch_many(table, look)}
        wrong: list[Values] = []
        for row in source.fetch_many(table, [self.moved.get(k, k) for k in look]):
            staged = self.copier.localise(table, tuple(row[c] for c in table.stored))
            own = tuple(staged[p] for p in self.places)
            same = there.get(own) == dict(zip(table.stored, staged, strict=True))
            # A row without anything local must have the very digest that it has on live.
            if not same or (expected[own] != ALWAYS_LOOK and found.get(own) != expected[own]):
                wrong.append(staged)
        if not wrong and not extra:
            return found
        if mend:
            for key in extra:
                target.remove(table, key)
            target.replace_many(table, table.stored, wrong)
        return None


def _frames(spool: IO[bytes]) -> Iterator[list[Values]]:
    spool.seek(0)
    while head := spool.read(8):
        yield [tuple(row) for row in unpack(spool.read(int.from_bytes(head)))]
