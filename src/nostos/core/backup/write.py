"""Making a backup: one moment of the database, then the files, in one pass, while live goes on."""

from __future__ import annotations

import errno
import os
import shutil
from collections.abc import Iterable, Iterator, Mapping
from contextlib import contextmanager
from dataclasses import replace
from io import BytesIO
from itertools import repeat
from pathlib import Path
from time import monotonic
from typing import IO, cast

import msgspec

import nostos
from nostos.core.backup import layout
from nostos.core.backup.archive import ArchiveReader, ArchiveWriter
from nostos.core.backup.contents import begin
from nostos.core.backup.layout import CONFIGURATION, FILES, Manifest
from nostos.core.clock import now
from nostos.core.database.outline import Outline
from nostos.core.database.protocol import Block, Database, explaining
from nostos.core.database.registry import Location, engine
from nostos.core.database.rows import json_lines as rowlines
from nostos.core.database.rows.block_sums import Sums
from nostos.core.database.rows.row_bytes import row_form
from nostos.core.database.schema import Table
from nostos.core.errors import SiteError
from nostos.core.files.entry import FileEntry, above_it
from nostos.core.files.tree import SPARE, GivenFile, SkippedFile, Status
from nostos.core.files.trees import tree_at
from nostos.core.private_files import make_private
from nostos.core.profiles.model import ignored
from nostos.core.progress import Listener, Progress, silent
from nostos.core.records import dataclass
from nostos.core.sites.recognise import Site

Blocks = Mapping[str, Mapping[int, Block]]  # by table: what its blocks of rows add up to
_WHOLE = 32 << 20  # a file up to this size is read at once, so that it is of one moment
_TRIES = 3


@dataclass(frozen=True)
class BackupResult:
    """A backup that was made and read back. size, content: its bytes, and those of what is in it. blocks: what its
    rows add up to."""

    path: Path
    site: str
    made: str
    tables: int
    rows: int
    files: int
    size: int
    content: int
    passed: tuple[SkippedFile, ...]
    seconds: float
    blocks: Blocks


def default_place(folder: Path, site: Site, moment: str) -> Path:
    """Where a backup goes that nobody named a place for. moment: ISO 8601."""
    name = "".join(c if c.isalnum() or c in "-_." else "-" for c in site.name).strip(".") or "site"
    stamp = "".join(c for c in moment[:19] if c.isdigit())
    return folder / name / f"{name}-{stamp[:8]}-{stamp[8:]}{layout.ENDING}"


def backup(site: Site, to: Path, tell: Listener = silent, rows_of: Location | None = None,
           rest_of: Path | None = None) -> BackupResult:
    """Write everything of a site into one new file, readable by its owner alone, and read it back.

    rows_of, rest_of: where its rows are, if not where the site says, and an earlier backup from which everything else
    is taken. Raises SiteError when the file is there already, lies in the site's own tree or cannot be written, or when
    the site cannot be read; then nothing is left of it.
    """
    start = monotonic()
    _check_place(site, to)
    try:
        with ArchiveWriter(to) as writer:
            work = _Backup(site, writer, tell, rows_of or site.database, rest_of)
            manifest = work.run()
            size = writer.finish()
    except FileExistsError:
        raise SiteError(f"There is a file {to} already.", next_step="Name another one with --to.") from None
    except OSError as error:
        raise SiteError(f"The backup {to} could not be written: {error.strerror}.", left="No file is left of it.",
                        next_step="Free some space or name another place with --to, then try again.") from error
    try:
        reader = ArchiveReader(to)
        try:
            for _ in reader.walk():
                tell(Progress("reading it back", 0, None, "parts"))
            content = reader.tail.content
        finally:
            reader.close()
    except BaseException:
        to.unlink(missing_ok=True)
        raise
    return BackupResult(to, site.name, manifest.made, work.tables, work.rows, work.files, size, content,
                    tuple(work.passed), monotonic() - start, work.blocks)


def _check_place(site: Site, to: Path) -> None:
    if to.exists() or to.is_symlink():
        raise SiteError(f"There is a file {to} already.", next_step="Name another one with --to.")
    if site.has_files and site.files.within(to.resolve()) is not None:
        raise SiteError(f"{to} lies in the site's own tree, where visitors might fetch it.",
                        next_step="Name a place outside of it with --to.")
    if not to.parent.exists():
        make_private(to.parent)
    if not to.parent.is_dir() or not os.access(to.parent, os.W_OK):
        raise SiteError(f"You may not write in {to.parent}.", next_step="Name another place with --to.")
    if shutil.disk_usage(to.parent).free < SPARE:
        raise SiteError(f"The disk of {to.parent} is full.", next_step="Free some space, or name another place.")


class _Backup:
    def __init__(self, site: Site, writer: ArchiveWriter, tell: Listener, rows_of: Location,
                 rest_of: Path | None) -> None:
        self.rest = ArchiveReader(rest_of) if rest_of is not None else None
        self.site = site
        self.files_of = site.files
        self.writer = writer
        self.tell = tell
        self.location = rows_of
        self.passed: list[SkippedFile] = []
        self.tables = self.rows = self.files = 0
        self.blocks: dict[str, dict[int, Block]] = {}

    def run(self) -> Manifest:
        """Write the archive: rows of one moment, then files, then what it all adds up to."""
        # Listed before the database is read: its snapshot is not held while files are looked at.
        entries = list(self.site.files.scan(self.site.foreign_paths(), ignored(self.site.profile), self.passed.append)
                       ) if self.site.has_files and self.rest is None else []
        database = self.location.open(readonly=True)
        try:
            with explaining(database), database.reading():
                outline = database.outline()
                if self.rest is not None:
                    like = begin(self.rest).outline
                    known = {t.name for t in like.tables}
                    outline = replace(like, tables=tuple(t for t in outline.tables if t.name in known))
                manifest = self._manifest(outline, database.version())
                self.writer.add(layout.MANIFEST, msgspec.json.format(msgspec.json.encode(manifest)))
                self.writer.add(layout.README, _readme(manifest).encode())
                self.writer.add(layout.SCHEMA_SQL, _sql(outline, manifest).encode("utf-8", "surrogateescape"))
                self.writer.add(layout.SCHEMA, msgspec.json.format(msgspec.json.encode(outline)))
                self._database(database, outline)
        finally:
            database.close()
        if self.rest is not None:
            self._copy_rest(self.rest)
            return manifest
        for number, name in enumerate(self.site.configuration_files):
            path = self.site.home / name
            self.writer.add(f"{CONFIGURATION}{number}-{path.name}", path.read_bytes(), path.stat().st_mode & 0o777)
        self._tree(entries)
        return manifest

    def _copy_rest(self, earlier: ArchiveReader) -> None:
        """Configuration and files as an earlier backup has them."""
        for member, body in earlier.walk():
            if not member.name.startswith((CONFIGURATION, FILES)):
                continue
            if member.kind == "file":
                self.writer.add_stream(member.name, cast(IO[bytes], body), member.size, member.mode, member.mtime)
                self.files += member.name.startswith(FILES)
            elif member.kind == "link":
                self.writer.add_link(member.name, member.target)
            else:
                self.writer.add_folder(member.name, member.mode)
        earlier.close()

    def _manifest(self, outline: Outline, server: str) -> Manifest:
        return Manifest(layout.FORMAT, layout.VERSION, self.site.name, self.site.url, now(),
                        f"Nostos {nostos.__version__}", self.site.profile.name, outline.engine, server,
                        self.site.database.prefix, self.site.configuration_files, self.site.has_files,
                        self._place_of_files(), tuple((p.path, p.reason) for p in self.passed))

    def _place_of_files(self) -> str:
        within = tree_at(self.site.home).within(self.site.files.at)
        return "files" if within is None else within or "."

    def _database(self, database: Database, outline: Outline) -> None:
        sizes = database.sizes()
        expected = sum(rows for rows, _ in sizes.values()) if sizes else None
        for number, table in enumerate(outline.tables):
            self.tables += 1
            pieces = _ArchivePieces(self.writer, layout.ROWS + layout.folder_of(number, table.name), table.stored)
            for text in self._rows(database, table):
                pieces.add(text)
                self.rows += 1
                if self.rows % 1000 == 0:
                    self.tell(Progress("database", self.rows, None if expected is None else max(expected, self.rows),
                                       "rows", self.writer.content))
            pieces.end()
        for number, name in enumerate(outline.raw):
            pieces = _ArchivePieces(self.writer, layout.RAW + layout.folder_of(number, name), ())
            for row in database.raw_rows(name):
                pieces.add(rowlines.line(row))
            pieces.end()

    def _rows(self, database: Database, table: Table) -> Iterator[bytes]:
        """A table's rows as lines; what its blocks add up to is remembered."""
        if not table.key:
            yield from (rowlines.line(values) for values in database.scan(table, table.stored))
            return
        form = row_form(table, table.stored)
        sums = Sums()
        for number, payload in database.scan_payloads(table):
            sums.add(number, form.digest(payload))
            yield rowlines.line(form.read(payload))
        self.blocks[table.name] = sums.blocks()

    def _tree(self, entries: list[FileEntry]) -> None:
        """All files, each after the folders above it. From another machine they come one after the other, without a
        question for each; those that were written meanwhile are read again, and the later entry of a name counts."""
        tree, streamed = self.files_of, bool(self.files_of.host) and self.files_of.words is None
        above = dict.fromkeys(f for e in entries for f in above_it(e.path))
        with tree.looking_ahead(("status", f) for f in above):
            rights = {f: 0o755 if (info := tree.status(f)) is None else info.rights for f in above}
        seen: dict[str, tuple[FileEntry, Status]] = {}
        for entry, given in zip(entries, tree.given_out(entries) if streamed else repeat(None), strict=streamed):
            for folder in above_it(entry.path):
                if folder in rights:
                    self.writer.add_folder(FILES + folder, rights.pop(folder))
            with self._reading(entry):
                if given is None:
                    self._file(entry)
                elif (info := self._given(entry, given)) is not None:
                    seen[entry.path] = entry, info
            self.files += 1
            if self.files % 50 == 0:
                self.tell(Progress("files", self.files, len(entries), "files", self.writer.content))
        with tree.looking_ahead(("status", path) for path in seen):
            again = [entry for entry, info in seen.values() if (now := tree.status(entry.path)) is not None
                     and (now.size, now.modified) != (info.size, info.modified)]
        for entry in again:
            with self._reading(entry):
                self._file(entry)

    @contextmanager
    def _reading(self, entry: FileEntry) -> Iterator[None]:
        try:
            yield
        except FileNotFoundError:
            self.passed.append(SkippedFile(entry.path, "vanished while it was being read"))
        except PermissionError:
            self.passed.append(SkippedFile(entry.path, "cannot be read: no permission"))

    def _given(self, entry: FileEntry, given: GivenFile) -> Status | None:
        """Add a file as another machine gives it out. Returns what it was then, if that has to be looked at again."""
        info = given.info
        if given.error is not None or info is None or info.kind != entry.kind:
            raise given.error or FileNotFoundError(errno.ENOENT, os.strerror(errno.ENOENT), entry.path)
        if self._is_no_file(entry, given.led):
            return None
        self.writer.add_stream(FILES + entry.path, _Poured(given.pieces), info.size, entry.mode, info.modified / 1e9)
        return info

    def _is_no_file(self, entry: FileEntry, led: str | None = None) -> bool:
        """Whether an entry is a folder or a link; then it is added. led: where a link leads, where that is known."""
        if entry.kind == "folder":
            self.writer.add_folder(FILES + entry.path, entry.mode)
        elif entry.kind == "link":
            self.writer.add_link(FILES + entry.path, self.files_of.link(entry.path) if led is None else led)
        return entry.kind in ("folder", "link")

    def _file(self, entry: FileEntry) -> None:
        name = FILES + entry.path
        if self._is_no_file(entry):
            return
        small: tuple[bytes, float] | None = None
        for _ in range(_TRIES):
            with self.files_of.opened(entry.path) as file:
                before = file.status()
                if before.size > _WHOLE:
                    small = None
                    self.writer.add_stream(name, file, before.size, entry.mode, before.modified / 1e9)
                else:
                    small = file.read(), before.modified / 1e9
                after = file.status()
            if (after.modified, after.size) == (before.modified, before.size):
                break  # else it was written while it was read; a later entry of a name stands for it
        if small is not None:
            self.writer.add_stream(name, BytesIO(small[0]), len(small[0]), entry.mode, small[1])


class _Poured:
    """Pieces that come by themselves, read as a file is."""

    def __init__(self, pieces: Iterable[bytes]) -> None:
        self._pieces = iter(pieces)
        self._rest = b""

    def read(self, most: int) -> bytes:
        """The next bytes, at most so many; none at the end."""
        if not self._rest:
            self._rest = next(self._pieces, b"")
        part, self._rest = self._rest[:most], self._rest[most:]
        return part


class _ArchivePieces:
    """Rows gathered into members of a few megabytes. Each begins with a line that names the columns."""

    def __init__(self, writer: ArchiveWriter, folder: str, columns: tuple[str, ...]) -> None:
        self.writer = writer
        self.folder = folder
        self.head = rowlines.line(columns)
        self.number = 0
        self.lines: list[bytes] = []
        self.size = 0

    def add(self, line: bytes) -> None:
        if len(line) > layout.LARGEST_PIECE // 2:
            raise SiteError("A row of the database is larger than a backup can hold.", next_step="Please report this.")
        self.lines.append(line)
        self.size += len(line)
        if self.size > layout.PIECE:
            self.end()

    def end(self) -> None:
        if self.lines or not self.number:
            self.number += 1
            self.writer.add(f"{self.folder}/{self.number:06d}.jsonl", self.head + b"".join(self.lines))
        self.lines, self.size = [], 0


def _readme(manifest: Manifest) -> str:
    return f"""A backup of the site {manifest.site}, {manifest.url}, made {manifest.made} by {manifest.by}.

It can be read without Nostos. `tar --zstd -xf FILE` unpacks it; `sha256sum -c SHA256SUMS` checks what came out.

  manifest.json     what it is a backup of
  database          schema.sql has the tables as {engine(manifest.engine).title} writes them;
                    rows/ has a folder a table, in it one JSON array a row; the first line of
                    each file names the columns. Binary values are {{"base64": ...}}.
  configuration     the site's own configuration files. They may hold passwords.
  files             the site's tree

`nostos restore FILE SITE` puts it back.
"""


def _sql(outline: Outline, manifest: Manifest) -> str:
    """The schema for people: to read, or to run by hand."""
    text = [f"-- {manifest.server}. Names are without the site's table prefix, which is \"{manifest.prefix}\"."]
    text += [sql + ";" for sql in engine(outline.engine).script(outline)]
    text += [f"-- the next number of {name}: {number}" for name, number in outline.counters.items()]
    return "\n\n".join(text) + "\n"
