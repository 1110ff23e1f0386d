"""Copying live's rows of one moment into staging and into the anchor, and proving that they arrived.

Where both are in one server, rows are copied inside it, without locks, while this side reads the snapshot and works out
what staging must be; blocks that moved in between, or in which the server could not know what staging has, are found by
their digests and mended from the snapshot. Elsewhere rows travel through this program.
"""

from __future__ import annotations

import secrets
from collections.abc import Callable, Collection, Mapping
from operator import itemgetter
from typing import AnyStr

from nostos.core.anchor.names import Side
from nostos.core.anchor.rows import SEED
from nostos.core.anchor.store import Anchor
from nostos.core.clone.masking import Mask
from nostos.core.database.protocol import Block, Database, InsideCopy
from nostos.core.database.registry import engine
from nostos.core.database.rows.digests import add_digests, block_of
from nostos.core.database.rows.row_bytes import row_form
from nostos.core.database.schema import Key, Table, Value
from nostos.core.errors import NostosError
from nostos.core.profiles.model import Profile
from nostos.core.progress import Listener, Progress
from nostos.core.values import structures
from nostos.core.values.rewriting import rewritten
from nostos.core.values.traces import Traces
from nostos.core.values.urls import UrlForms

Values = tuple[Value, ...]
_ROWS_AT_ONCE = 16384
_BYTES_AT_ONCE = 16 << 20
_BLOCKS_AT_ONCE = 256
_GUESSED = 4  # addresses: a server looks for each in every text


class Localiser:
    """A row of one place as another has it: with its own URL, and its own prefix in names that bear it.

    names: bytes without any of which a row holds nothing local. prefixes: the old and the new one. mask: makes up
    personal data. traces: finds what is left of the old place; `left` tells of it by columns: how often, and what.
    """

    def __init__(self, live: UrlForms, staging: UrlForms, prefixes: tuple[str, str], profile: Profile,
                 mask: Mask | None = None, traces: Traces | None = None) -> None:
        self.mask = mask
        self.traces = traces
        self.left: dict[str, tuple[int, str]] = {}
        self._live, self._staging, self._profile = live, staging, profile
        self._old, self._new = prefixes
        self._moves = live.where() != staging.where()
        self.names = tuple(name.encode() for name in ((*live.names, *live.hidden) if self._moves else ()))
        self._pieces = {p.table for p in profile.pieces}
        self._prefixes = (self._old.encode(),) if self._old != self._new else ()
        self.names += self._prefixes
        # The usual ways in which a URL is written, as a first guess for a server to make by itself.
        self.guess: list[tuple[str, str]] = []
        for old, new in zip(live.bases[:_GUESSED], staging.bases, strict=False):
            form = "n" if old.scheme == new.scheme else "o"
            self.guess += [(old.written(form, slash, "u"), new.written(form, slash, "u")) for slash in (0, 1)]

    def named(self, table: str, payloads: bytes) -> tuple[bytes, ...] | None:
        """Which names are in some rows, by their bytes: a row without any of them is the same in the other place. None:
        that cannot be told by names."""
        if table in self._pieces or (self.mask is not None and self.mask.touches(table)):
            return None
        return tuple(name for name in self.names if name in payloads)

    def addresses(self, named: Collection[bytes]) -> list[str]:
        """Those of some names by which an address may be in a text."""
        return [name.decode() for name in named if name not in self._prefixes]

    def watched(self, table: Table, payload: bytes, values: Values) -> None:
        """Look whether a row, as the other place has it, still speaks of the old one."""
        if self.traces is None or not self.traces.may_be_in(payload):
            return
        for column, value in zip(table.stored, values, strict=True):
            hits = self.traces.trace_in(value)
            if hits:
                place = f"{table.name}.{column}"
                count, first = self.left.get(place, (0, hits))
                self.left[place] = (count + 1, first)

    def change(self, table: Table, values: Values, named: Collection[str] | None = None) -> Values:
        """The row as the other place has it. named: of the names, those that it holds, where that is known."""
        moved = self._moved(table, values, named)
        return moved if self.mask is None else self.mask.change(table, moved)

    def _moved(self, table: Table, values: Values, named: Collection[str] | None) -> Values:
        if table.name in self._pieces:
            values = self._in_pieces(table, values)
        result = values
        if self._moves:
            changed = list(values)
            for place, value in enumerate(values):
                text: Value = value
                if isinstance(value, bytes) and table.stored[place] not in table.key:  # a key of bytes is what it is
                    text = structures.text_in(value) if any(n in value for n in self.names) else None
                if isinstance(text, str) and (
                        self._live.occurs(text) if named is None else holds_any(text, named)):
                    there = rewritten(text, self._live, self._staging, named)
                    changed[place] = structures.as_bytes(there) if isinstance(value, bytes) else there
            result = tuple(changed)
        old, new = self._old, self._new
        if old == new:
            return result
        return tuple(new + v[len(old):] if isinstance(v, str) and v.startswith(old)
                     and self._profile.bears_prefix(table.name, c, v[len(old):]) else v
                     for c, v in zip(table.stored, result, strict=True))

    def _in_pieces(self, table: Table, values: Values) -> Values:
        """The row with the pieces of an address that it holds made the other place's."""
        row = dict(zip(table.stored, values, strict=True))
        pieces = dict(row)
        for column, value in row.items():
            piece = self._profile.piece_of(table.name, row, column, self._live.host)
            token = self._live.piece_token(piece, value) if piece else None
            if token is not None:
                pieces[column] = self._staging.piece(token)
        return tuple(pieces.values())


class RowCopier:
    """Copies tables. Afterwards `rows`, `rewritten` and `proved` say how many were copied, how many of them hold
    something local, and how many were read back and found equal. far: the source is on another machine, so that each
    statement that it says makes a part of it is looked at before it is run here."""

    def __init__(self, anchor: Anchor, source: Database, target: Database, local: Localiser, tell: Listener, *,
                 far: bool = False) -> None:
        self.anchor = anchor
        self.source = source
        self.target = target
        self.local = local
        self.tell = tell
        self._far = far
        self.rows = 0
        self.rewritten = 0
        self.proved = 0
        self.seed = secrets.randbits(63)  # nobody knows what would look alike
        self._bytes = 0
        self._expected: int | None = None

    def run(self, tables: Mapping[str, Table]) -> None:
        """Copy everything, inside the source's snapshot. Raises NostosError when staging is not equal to it."""
        self.anchor.set_fact(SEED, self.seed)
        sizes = self.source.sizes()
        self._expected = sum(rows for rows, _ in sizes.values()) if sizes else None
        self.moved(0, 0)
        outline = self.source.outline()
        if self._far:
            engine(outline.engine).check_outline(outline)
        self.target.build(outline)
        mask = self.local.mask
        for name in outline.raw if mask is None else ():  # what a search index keeps may hold anybody's words
            self.target.put_raw(name, self.source.raw_rows(name))
        if mask is not None:
            tables = {n: t for n, t in tables.items() if not mask.left_out(n)}
        # What is masked must not be in staging for a moment.
        keyed = [t for t in tables.values() if t.key and not (mask and mask.touches(t.name))]
        inside = self.target.copy_inside(self.source, keyed, self.local.guess, self.seed)
        try:
            if inside is None:
                with self.target.writing():
                    self._all(tables, None, ())
                    self.target.finish(outline)
            else:
                self._all(tables, inside, keyed)
                self.target.finish(outline)
        finally:
            if inside is not None:
                inside.close()

    def moved(self, rows: int, size: int) -> None:
        """Count rows that were read, and their bytes, and tell."""
        self.rows += rows
        self._bytes += size
        total = None if self._expected is None else max(self._expected, self.rows)
        self.tell(Progress("database", self.rows, total, "rows", self._bytes))

    def _all(self, tables: Mapping[str, Table], inside: InsideCopy | None, keyed: Collection[Table]) -> None:
        read = []
        for table in tables.values():
            for side in Side:
                self.anchor.remember_table(side, table)
            if table.key:
                read.append(_TableCopy(self, table, inside if table in keyed else None))
                read[-1].read()
            else:
                self.insert_all(table)
        for number, one in enumerate(read, start=1):
            one.prove()
            self.tell(Progress("proof", number, len(read), "tables"))

    def insert_all(self, table: Table, counted: bool = True) -> None:
        """Every row through this program, and nothing else."""
        batch: list[Values] = []

        def put() -> None:
            self.target.insert_many(table, table.stored, batch)
            self.moved(len(batch) if counted else 0, 0)
            batch.clear()

        for values in self.source.scan(table, table.stored):
            staged = self.local.change(table, values)
            self.rewritten += counted and staged != values
            if counted:
                self.local.watched(table, repr(staged).encode("utf-8", "replace"), staged)
            batch.append(staged)
            if len(batch) == _ROWS_AT_ONCE:
                put()
        put()


class _TableCopy:
    """One keyed table on its way."""

    def __init__(self, copier: RowCopier, table: Table, inside: InsideCopy | None) -> None:
        self.copier = copier
        self.table = table
        self.inside = inside
        self.form = row_form(table, table.stored)
        first, *more = [table.stored.index(k) for k in table.key]
        self.key_of: Callable[[Values], Key] = itemgetter(first, *more) if more else itemgetter(slice(first, first + 1))
        self.added = False
        self.apart: list[tuple[Key, bytes | None]] = []  # of staging's rows, those that are not as live's
        self.keys_moved: dict[Key, Key] = {}  # staging's keys that hold its own URL, and live's
        self.totals: dict[Side, dict[int, list[int]]] = {side: {} for side in Side}  # count and digest of each block

    def read(self) -> None:
        """Read the snapshot into the anchor. Rows go to staging too, unless they are copied inside the server."""
        source = self.copier.source
        # Where the server adds digests up, that is quicker than here, row by row.
        self.added = self.inside is not None and source.adds_up(self.table)
        if self.added:
            for number, block in source.blocks(self.table, self.table.stored).items():
                for side in Side:
                    self.totals[side][number] = [block.count, block.digest]
        pending: dict[int, list[bytes]] = {}
        rows = size = 0
        for number, payload in self.copier.source.scan_payloads(self.table):
            held = pending.get(number)
            if held is None:
                pending[number] = [payload]
            else:
                held.append(payload)
            rows += 1
            size += len(payload)
            if rows == _ROWS_AT_ONCE or size > _BYTES_AT_ONCE:
                self._keep(pending, rows, size)
                pending, rows, size = {}, 0, 0
        self._keep(pending, rows, size)
        for side, totals in self.totals.items():
            for number, (count, digest) in totals.items():
                self.copier.anchor.keep_total(side, self.table.name, number, Block(count, digest))
        self.totals.clear()
        self._fingerprint(Side.LIVE, source)

    def _fingerprint(self, side: Side, database: Database, known: dict[int, Block] | None = None,
                     but: Collection[int] = ()) -> None:
        """Keep the fingerprints of a side's blocks, read now if they are not known, but for those of blocks that were
        mended since."""
        if known is None and database.has_fingerprints(self.table):
            known = database.fingerprints_of([(self.table, self.table.stored)], self.copier.seed)[0]
        if known:
            self.copier.anchor.keep_fingerprints(side, self.table.name,
                                                 {n: made for n, made in known.items() if n not in but})

    def _keep(self, pending: dict[int, list[bytes]], rows: int, size: int) -> None:
        local = self.copier.local
        batch: list[Values] = []
        for number, payloads in pending.items():
            self.copier.anchor.add_base(self.table.name, number, payloads)
            if not self.added:
                total = add_digests(0, map(self.form.digest, payloads))
                for side in Side:
                    self._add(side, number, len(payloads), total)
            joined = b"".join(payloads)
            named = local.named(self.table.name, joined)
            if named is None:
                payloads = [self._localised(number, p, None) for p in payloads]
            elif named:
                words = local.addresses(named)
                payloads = [self._localised(number, p, words) if holds_any(p, named) else p for p in payloads]
            if named is None or named:
                joined = b"".join(payloads)
            if local.traces is not None and local.traces.may_be_in(joined):
                for payload in payloads:
                    local.watched(self.table, payload, self.form.read(payload))
            if self.inside is None:
                batch += [self.form.read(p) for p in payloads]
        self.copier.anchor.set_many_apart(Side.STAGING, self.table.name, self.apart)
        self.apart.clear()
        if batch:
            self.copier.target.insert_many(self.table, self.table.stored, batch)
        self.copier.moved(rows, size)

    def _add(self, side: Side, number: int, count: int, digest: int) -> None:
        block = self.totals[side].setdefault(number, [0, 0])
        block[0] += count
        block[1] ^= digest

    def _localised(self, number: int, payload: bytes, named: Collection[str] | None) -> bytes:
        """A row as staging has it; where that is not as live has it, the anchor is told."""
        form = self.form
        values = form.read(payload)
        staged = self.copier.local.change(self.table, values, named)
        if staged == values:
            return payload
        self.copier.rewritten += 1
        result = form.write(staged)
        digest = form.digest(result)
        was, now = int.from_bytes(form.digest(payload)[:8]), int.from_bytes(digest[:8])
        key, same = self.key_of(values), self.key_of(staged)
        if same == key:
            self._add(Side.STAGING, number, 0, was ^ now)
        else:
            self._add(Side.STAGING, number, -1, was)
            self._add(Side.STAGING, block_of(same), 1, now)
            self.keys_moved[same] = key
            self.apart.append((key, None))
        self.apart.append((same, digest))
        return result

    def prove(self) -> None:
        """Compare staging, block by block, with what the snapshot says it must be, and mend what differs, once."""
        anchor, table, target = self.copier.anchor, self.table, self.copier.target
        now = self.inside.wait(table.name) if self.inside is not None else target.blocks(table, table.stored)
        if now is None:  # it could not be copied inside the server
            target.clear(table.name)
            self.copier.insert_all(table, counted=False)
            now = target.blocks(table, table.stored)
        then = anchor.blocks(Side.STAGING, table.name)
        doubtful = sorted(n for n in now.keys() | then.keys() if now.get(n) != then.get(n))
        for at in range(0, len(doubtful), _BLOCKS_AT_ONCE):
            part = doubtful[at:at + _BLOCKS_AT_ONCE]
            expected = {k: d for n in part for k, d in anchor.known_rows(Side.STAGING, table.name, n).items()}
            if not self._settled(part, expected, mend=True) and not self._settled(part, expected, mend=False):
                raise NostosError(f"Staging's table {table.name} is not equal to live's snapshot.",
                                  left="Live was only read; the copy was removed.", next_step="Please report this.")
        known = self.inside.fingerprints(table.name) if self.inside is not None else None
        self._fingerprint(Side.STAGING, target, known, doubtful)
        self.copier.proved += sum(b.count for b in anchor.blocks(Side.STAGING, table.name).values() if b)

    def _settled(self, numbers: list[int], expected: Mapping[Key, bytes], mend: bool) -> bool:
        """Whether these blocks' rows in staging are as they must be. If not, they are mended, if that is asked for."""
        table, target = self.table, self.copier.target
        extra, wrong = differing(target, table, numbers, expected)
        if mend:
            for key in extra:
                target.remove(table, key)
            rows = self.copier.source.fetch_many(table, [self.keys_moved.get(k, k) for k in wrong])
            target.replace_many(table, table.stored, [
                self.copier.local.change(table, tuple(row[c] for c in table.stored)) for row in rows])
        return not extra and not wrong


def holds_any(payload: AnyStr, names: Collection[AnyStr]) -> bool:
    """Whether one of these is in a row: a loop, for it is asked of every row, and takes half the time of `any`."""
    for name in names:  # noqa: SIM110
        if name in payload:
            return True
    return False


def differing(copy: Database, table: Table, numbers: list[int], expected: Mapping[Key, bytes]
              ) -> tuple[list[Key], list[Key]]:
    """The rows of a copy's blocks that are too many there, and those that are missing or not as they must be.
    expected: the digests that they must have, by key."""
    row_digests = dict(copy.row_digests(table, table.stored, numbers))
    return [k for k in row_digests if k not in expected], [k for k, d in expected.items() if row_digests.get(k) != d]
