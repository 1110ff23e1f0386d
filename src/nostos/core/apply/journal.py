"""What a merge is about to do and what it replaces, on disk before it starts.

One folder a merge: `journal.jsonl`, a line a step, each flushed to disk before the step is taken; `before/`, the files
that are replaced.
"""

from __future__ import annotations

import os
from collections.abc import Iterator
from contextlib import suppress
from pathlib import Path
from typing import Any

import msgspec

from nostos.core.database.schema import Row
from nostos.core.operations import Operation
from nostos.core.private import make_private
from nostos.core.values.structures import Tree

FILE = "journal.jsonl"


def _plain(value: Any) -> Any:
    if isinstance(value, Tree):
        return {"structure": value.data}
    if isinstance(value, bytes):
        return {"bytes": value.hex()}
    raise NotImplementedError(f"cannot journal {type(value)}")


def as_data(operation: Operation) -> dict[str, Any]:
    """An operation as JSON-like data, with its kind."""
    data = msgspec.to_builtins(operation, enc_hook=_plain, builtin_types=(bytes,))
    return {"operation": type(operation).__name__, **_clean(data)}


def _clean(value: Any) -> Any:
    if isinstance(value, bytes):
        return {"bytes": value.hex()}
    if isinstance(value, str):
        return value.encode("utf-8", "surrogateescape").decode("utf-8", "backslashreplace")
    if isinstance(value, dict):
        return {str(k): _clean(v) for k, v in value.items()}
    if isinstance(value, list | tuple):
        return [_clean(v) for v in value]
    return value


class Journal:
    """The journal of one operation, being written."""

    def __init__(self, folder: Path) -> None:
        make_private(folder)
        self.folder = folder
        self._file = (folder / FILE).open("ab")
        (folder / FILE).chmod(0o600)

    @property
    def before(self) -> Path:
        """Where files that are replaced are kept."""
        return self.folder / "before"

    def write(self, step: str, **data: Any) -> None:
        """Add a line and flush it to disk."""
        line = msgspec.json.encode({"step": step, **_clean(msgspec.to_builtins(data, enc_hook=_plain,
                                                                               builtin_types=(bytes,)))})
        self._file.write(line + b"\n")
        self._file.flush()
        os.fsync(self._file.fileno())

    def close(self) -> None:
        with suppress(OSError):  # what counted was flushed line by line
            self._file.close()


def read(folder: Path) -> Iterator[dict[str, Any]]:
    """The lines of a journal; a last line that a crash cut short is left out."""
    path = folder / FILE
    if path.exists():
        for line in path.read_bytes().split(b"\n"):
            try:
                yield msgspec.json.decode(line)
            except msgspec.DecodeError:
                return


def row_image(row: Row) -> Row:
    return {c: _clean(v) for c, v in row.items()}
