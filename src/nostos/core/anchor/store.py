"""The anchor: what live and staging both were at the clone, and how that has advanced since.

One SQLite file a voyage. It holds the rows themselves, as live had them, in the form that digests are made over,
compressed a block at a time; for each side a digest per block, and the digests of those rows that are not as in the
base; for files their stamps and digests, and the contents of small text files. Whatever merges settle is laid over the
first state row by row.
"""

from __future__ import annotations

from collections.abc import Iterable

import msgspec

from nostos.core.anchor.names import Side
from nostos.core.anchor.records import _PLACES
from nostos.core.anchor.undo_records import UndoRecords
from nostos.core.files.entry import FileEntry
from nostos.core.values.packed import pack, squeeze, unsqueeze

SMALL_TEXT = 256 * 1024  # bytes


class Anchor(UndoRecords):
    """An open anchor. Changes are made inside `changing()`, all or none."""

    # --- files

    def keep_file(self, side: Side, path: str, entry: FileEntry | None) -> None:
        """What a side's file was when it was last known to be as the ancestor; None: there is none."""
        self._keep_file("live" if side is Side.LIVE else "staging", path, entry)

    def keep_base_file(self, entry: FileEntry | None, path: str, content: bytes | None = None) -> None:
        """Set the common ancestor of a file; with its content where it is a small text."""
        self._keep_file("base", path, entry)
        self._keep_text(entry, content)

    def _keep_file(self, column: str, path: str, entry: FileEntry | None) -> None:
        packed = None if entry is None else msgspec.msgpack.encode(entry)
        self._remember(column, [path], None if packed is None else pack([packed]))
        self._file.execute(_PLACES[column][1], (path, packed))

    def _keep_text(self, entry: FileEntry | None, content: bytes | None) -> None:
        if entry is not None and content is not None:
            self._file.execute("INSERT OR REPLACE INTO texts VALUES (?, ?)", (entry.digest, squeeze(content)))

    def keep_copied(self, entry: FileEntry, staging: FileEntry, content: bytes | None) -> None:
        """A file that both sides have as the ancestor is, with staging's own stamp."""
        raw = msgspec.msgpack.encode(entry)
        self._file.execute("INSERT INTO files VALUES (?, ?, ?, ?)",
                           (entry.path, raw, raw, msgspec.msgpack.encode(staging)))
        self._keep_text(entry, content)

    def files(self, side: Side) -> dict[str, FileEntry]:
        """The files of one side as they were when the anchor last saw them, by their paths."""
        column = "live" if side is Side.LIVE else "staging"
        rows: Iterable[tuple[str, bytes]] = self._file.execute(
            f"SELECT path, {column} FROM files WHERE {column} IS NOT NULL")
        decoder = msgspec.msgpack.Decoder(FileEntry)
        return {p: decoder.decode(e) for p, e in rows}

    def below(self, folder: str) -> int:
        """How many files the ancestor has in a folder, at any depth."""
        row = self._file.execute("SELECT count(*) FROM files WHERE base IS NOT NULL AND substr(path, 1, ?) = ?",
                                   (len(folder) + 1, folder + "/")).fetchone()
        return int(row[0])

    def base_file(self, path: str) -> FileEntry | None:
        """One file of the ancestor; None where it had none there."""
        row = self._file.execute("SELECT base FROM files WHERE path=?", (path,)).fetchone()
        return msgspec.msgpack.decode(row[0], type=FileEntry) if row and row[0] else None

    def base_files(self) -> dict[str, FileEntry]:
        """Every file of the common ancestor."""
        decoder = msgspec.msgpack.Decoder(FileEntry)
        return {p: decoder.decode(e) for p, e in self._file.execute(
            "SELECT path, base FROM files WHERE base IS NOT NULL")}

    def text(self, digest: bytes | None) -> bytes | None:
        """The content of a small text file by its digest."""
        row = self._file.execute("SELECT content FROM texts WHERE digest=?", (digest,)).fetchone()
        return unsqueeze(row[0]) if row else None
