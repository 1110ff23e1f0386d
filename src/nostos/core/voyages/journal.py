"""What a merge is about to do and what it replaces, on disk before it starts.

One folder a merge: `journal.jsonl`, a line a step, each flushed to disk before the step is taken. The files that are
replaced are kept as kept.py says.
"""

from __future__ import annotations

import hashlib
import io
import os
import re
import secrets
from collections.abc import Iterable, Iterator, Mapping, Sequence
from contextlib import contextmanager, suppress
from datetime import UTC, datetime, timedelta
from enum import StrEnum
from pathlib import Path
from typing import Any

import msgspec
import zstandard

from nostos.core.database.rows import json_lines as rowlines
from nostos.core.database.schema import Value
from nostos.core.private_files import make_private, sync, write_private
from nostos.core.values.packed import squeeze, unsqueeze
from nostos.core.values.structures import builtins

_STAMP = "%Y%m%dT%H%M%S%f"
FILE = "journal.jsonl"
KEPT = "folders.msgpack.zst"  # what was in folders that are switched as one
UNDO = "undo.msgpack.zst"  # rows and files before and after, exact, for taking the operation back
UNDO_AHEAD = "undo-ahead.msgpack.zst"  # rows of it that were known before the transaction held any


def new_id(place: Path | None = None) -> str:
    """An id for an operation, by its time to the millisecond. place: a folder of operations: the id comes after all
    that are there, though the clock was set back meanwhile, for what came last is found by its id."""
    stamp = f"{datetime.now(UTC):{_STAMP}}"[:-3]
    names = [f.name.partition("-")[0] for f in place.glob("*/")] if place is not None else []
    newest = max((n for n in names if re.fullmatch(r"\d{8}T\d{9}", n)), default="")
    if stamp <= newest:
        after = datetime.strptime(newest + "000", _STAMP) + timedelta(milliseconds=1)
        stamp = f"{after:{_STAMP}}"[:-3]
    return f"{stamp}-{secrets.token_hex(2)}"


class Step(StrEnum):
    """How far an operation has come, as its journal says it (docs/inside.md draws what follows from each)."""

    PLAN = "plan"
    STAGING = "staging"
    STAGED = "staged"
    SCHEMA = "schema"
    LOOSE = "loose"  # rows of tables without transactions
    COMMITTING = "committing"
    COMMITTED = "committed"
    SETTLED = "settled"
    TAKEN_BACK = "taken back"
    SAFETY = "safety"
    KEPT = "kept"


class Journal:
    """The journal of one operation, being written."""

    def __init__(self, folder: Path) -> None:
        make_private(folder)
        sync(folder.parent)
        self.folder = folder
        path = folder / FILE
        cut = path.exists() and path.read_bytes()[-1:] not in (b"", b"\n")
        self._file = path.open("ab")
        if cut:  # a line that a crash cut short must not swallow the next one
            self._file.write(b"\n")
        path.chmod(0o600)
        sync(folder)

    def write(self, step: Step, **data: Any) -> None:
        """Add a line and flush it to disk."""
        line = msgspec.json.encode({"step": step, **builtins(data)})
        self._file.write(line + b"\n")
        self._file.flush()
        os.fsync(self._file.fileno())

    def keep_undo_ahead(self, rows: Iterable[Mapping[str, Any]]) -> None:
        """Keep rows of what `keep_undo` will keep, which is told so."""
        write_private(self.folder / UNDO_AHEAD, squeeze(list(rows)))

    def keep_undo(self, rows: Iterable[Mapping[str, Any]], files: Iterable[Mapping[str, Any]],
                  schema: Iterable[Mapping[str, Any]], ahead: bool = False) -> None:
        """Keep what it takes to take the operation back. ahead: more of its rows were kept before."""
        write_private(self.folder / UNDO, squeeze({
            "rows": list(rows), "files": list(files), "schema": list(schema), "ahead": ahead}))

    def keep_rows(self, name: str, columns: Sequence[str], rows: Iterable[Sequence[Value]]) -> None:
        """Keep rows that are about to be dropped: JSON lines, compressed, the columns' names first."""
        make_private(self.folder / "dropped")
        sync(self.folder)
        path = dropped(self.folder, name)
        descriptor = os.open(path, os.O_WRONLY | os.O_CREAT | os.O_TRUNC, 0o600)
        with os.fdopen(descriptor, "wb") as file, zstandard.ZstdCompressor().stream_writer(file, closefd=False) as out:
            out.write(rowlines.line(columns))
            for row in rows:
                out.write(rowlines.line(row))
        with path.open("rb") as made:
            os.fsync(made.fileno())
        sync(path.parent)

    def close(self) -> None:
        """Close the file; what was written is on the disk already."""
        with suppress(OSError):  # what counted was flushed line by line
            self._file.close()


@contextmanager
def opened(folder: Path) -> Iterator[Journal]:
    """A journal, to be written on; closed at the end."""
    journal = Journal(folder)
    try:
        yield journal
    finally:
        journal.close()


def undo_of(folder: Path) -> dict[str, Any]:
    """What `keep_undo` kept: rows, files, schema."""
    kept: dict[str, Any] = unsqueeze((folder / UNDO).read_bytes())
    if kept.get("ahead"):
        kept["rows"] = [*unsqueeze((folder / UNDO_AHEAD).read_bytes()), *kept["rows"]]
    return kept


def dropped(folder: Path, name: str) -> Path:
    """Where an operation keeps the rows of something that it dropped."""
    # The name for people, and what tells it from others that are cut to the same.
    safe = "".join(c if c.isascii() and (c.isalnum() or c in "-_") else "_" for c in name)[:80]
    if safe != name:
        safe += "-" + hashlib.blake2b(name.encode("utf-8", "surrogateescape"), digest_size=6).hexdigest()
    return folder / "dropped" / f"{safe}.jsonl.zst"


def dropped_rows(path: Path) -> Iterator[tuple[Value, ...]]:
    """The columns' names, then the rows of what was dropped. Raises ValueError where it is damaged."""
    with path.open("rb") as file, zstandard.ZstdDecompressor().stream_reader(file) as packed:
        for text in io.BufferedReader(packed):
            yield rowlines.values(text, None)


def unfinished(place: Path, kind: str = "merges") -> list[Path]:
    """The folders of operations that neither ended nor were taken back, oldest first: those of a voyage, by its folder,
    or, of the kind "restores", those of a home."""
    unfinished_ones = []
    for folder in sorted((place / kind).glob("*/")):
        if _last_step(folder) not in (None, Step.SETTLED, Step.TAKEN_BACK):
            unfinished_ones.append(folder)
    return unfinished_ones


def needed(place: Path) -> list[Path]:
    """Of the unfinished operations of a voyage those that live needs: all but those that wrote to staging."""
    return [f for f in unfinished(place) if next(read(f), {}).get("toward", "live") == "live"]


def ended(folder: Path) -> bool:
    """Whether an operation is finished or taken back."""
    return _last_step(folder) in (Step.SETTLED, Step.TAKEN_BACK)


def carried_out(place: Path, since: float) -> bool:
    """Whether an operation of a voyage was carried out whole, and noted as that since a time (seconds, as the files of
    this machine say it)."""
    return any(_last_step(f) == Step.SETTLED for f in place.glob("merges/*/")
               if (f / FILE).is_file() and (f / FILE).stat().st_mtime >= since)


def _last_step(folder: Path) -> str | None:
    """How far a journal has come. Only the end of it is decoded: this is asked before every command."""
    path = folder / FILE
    for line in reversed(path.read_bytes().split(b"\n")) if path.exists() else ():
        with suppress(msgspec.DecodeError):
            return str(msgspec.json.decode(line)["step"])
    return None


def read(folder: Path) -> Iterator[dict[str, Any]]:
    """The lines of a journal; one that a crash cut short is left out."""
    path = folder / FILE
    for line in path.read_bytes().split(b"\n") if path.exists() else ():
        with suppress(msgspec.DecodeError):
            yield msgspec.json.decode(line)
