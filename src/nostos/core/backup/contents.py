"""What is in a backup, read in one pass: every pass checks everything again."""

from __future__ import annotations

import hashlib
import os
from collections.abc import Callable, Collection, Iterator, Mapping, Sequence
from dataclasses import field
from pathlib import Path
from typing import TypeVar

import msgspec

from nostos.core.backup import layout
from nostos.core.backup.archive import ArchiveReader, Body, Member
from nostos.core.backup.layout import Manifest, damaged
from nostos.core.database.outline import Outline
from nostos.core.database.registry import engine
from nostos.core.database.rows import json_lines as rowlines
from nostos.core.database.schema import Table, Value, in_todays_names
from nostos.core.files.entry import OWN_PREFIX, FileEntry, above_it, inside
from nostos.core.files.tree import CHUNK
from nostos.core.private_files import make_private
from nostos.core.progress import Listener, Progress, silent
from nostos.core.records import dataclass

_LARGEST_TEXT = 64 << 20
Rows = Sequence[tuple[Value, ...]]
T = TypeVar("T")


@dataclass
class Contents:
    """What a backup says of itself, and what was found in it. folders: the rights of folders that hold something."""

    manifest: Manifest
    outline: Outline
    files: dict[str, FileEntry] = field(default_factory=dict)
    folders: dict[str, int] = field(default_factory=dict)
    configuration: dict[str, bytes] = field(default_factory=dict)
    rows: int = 0


def read(reader: ArchiveReader, rows: Callable[[Table, Rows], None] | None = None,
         raw: Callable[[str, Rows], None] | None = None, place: Callable[[FileEntry], Path | None] | None = None,
         tell: Listener = silent, wanted: Callable[[str], bool] = lambda _: True) -> Contents:
    """Read a backup to its end. Raises BackupError when anything is wrong with it.

    wanted: of which tables rows are given out. rows, raw: are given the rows of tables, some at a time, in the order of
    the outline. place: says where a file is to be written, if it is. Nothing that is given out may be relied on before
    this has returned.
    """
    members = reader.walk()
    manifest = outline = None
    contents: Contents | None = None
    tables: dict[str, Table] = {}
    raws: dict[str, str] = {}
    done = 0
    for member, body in members:
        done += member.size
        tell(Progress("reading the backup", done, max(done, reader.tail.content), "bytes"))
        name = member.name
        if name == layout.MANIFEST:
            manifest = _manifest(body, member)
        elif name == layout.SCHEMA:
            outline = _outline(body, member, manifest)
            assert manifest is not None
            contents = Contents(manifest, outline)
            tables = {layout.folder_of(n, t.name): t for n, t in enumerate(outline.tables)}
            raws = {layout.folder_of(n, r): r for n, r in enumerate(outline.raw)}
        elif name in (layout.README, layout.SCHEMA_SQL):
            continue
        elif contents is None:
            raise damaged("its parts are not in their order")
        elif name.startswith((layout.ROWS, layout.RAW)) and member.kind == "file":
            table = _table_of(member, tables, raws)
            if isinstance(table, Table):
                if rows is not None and wanted(table.name):
                    rows(table, _rows(contents, body, table))
            elif raw is not None:
                raw(table, [_values(line, None) for line in _lines(body)[1:]])
        elif name.startswith(layout.CONFIGURATION) and member.kind == "file":
            contents.configuration[name[len(layout.CONFIGURATION):]] = body.read_all(_LARGEST_TEXT)
        elif name.startswith(layout.FILES):
            _file(contents, member, body, place)
        elif member.kind != "folder":
            raise damaged("it holds a part that is not known")
    if contents is None:
        raise damaged("it holds no site")
    return contents


def into(folder: Path, wanted: Collection[str]) -> Callable[[FileEntry], Path | None]:
    """Places below a private folder for the files with these paths."""
    def place(entry: FileEntry) -> Path | None:
        if entry.path not in wanted:
            return None
        target = inside(folder, entry.path)
        make_private(target.parent)
        return target

    return place


def begin(reader: ArchiveReader) -> Contents:
    """What a backup says of itself at its beginning; the rest of it is not looked at yet. Raises BackupError."""
    manifest = None
    for member, body in reader.walk():
        if member.name == layout.MANIFEST:
            manifest = _manifest(body, member)
        elif member.name == layout.SCHEMA and manifest is not None:
            return Contents(manifest, _outline(body, member, manifest))
    raise damaged("it holds no site")


def _manifest(body: Body, member: Member) -> Manifest:
    manifest = _decoded(body, member, Manifest)
    if manifest.format != layout.FORMAT or manifest.version != layout.VERSION:
        raise damaged("it is of a version that is not known here")
    return manifest


def _outline(body: Body, member: Member, manifest: Manifest | None) -> Outline:
    outline = _decoded(body, member, Outline)
    engine(outline.engine).check_outline(outline)
    if manifest is None or manifest.engine != outline.engine:
        raise damaged("its parts do not belong together")
    return outline


def _decoded(body: Body, member: Member, kind: type[T]) -> T:
    try:
        return msgspec.json.decode(in_todays_names(body.read_all(_LARGEST_TEXT)), type=kind)
    except (msgspec.DecodeError, msgspec.ValidationError, RecursionError) as error:
        raise damaged(f"its {member.name} cannot be read") from error


def _table_of(member: Member, tables: Mapping[str, Table], raws: Mapping[str, str]) -> Table | str:
    """The table that a member holds rows of; of a raw one only its name."""
    described: Mapping[str, Table | str] = tables
    area = layout.ROWS
    if not member.name.startswith(area):
        described, area = raws, layout.RAW
    table = described.get(member.name[len(area):].partition("/")[0])
    if table is None:
        raise damaged("it holds rows of a table that it does not describe")
    return table


def _lines(body: Body) -> list[bytes]:
    lines = body.read_all(layout.LARGEST_PIECE).split(b"\n")
    if lines[-1:] != [b""]:
        raise damaged("a row in it is cut short")
    return lines[:-1]


def _rows(contents: Contents, body: Body, table: Table) -> Rows:
    head, *lines = _lines(body)
    if _values(head, None) != table.stored:
        raise damaged(f"the rows of {table.name} have other columns than it says")
    contents.rows += len(lines)
    return [_values(line, len(table.stored)) for line in lines]


def _values(text: bytes, width: int | None) -> tuple[Value, ...]:
    try:
        return rowlines.values(text, width)
    except ValueError:
        raise damaged("a row in it cannot be read") from None


def _file(contents: Contents, member: Member, body: Body, place: Callable[[FileEntry], Path | None] | None) -> None:
    path = member.name[len(layout.FILES):]
    for above in above_it(path):
        if above in contents.files and contents.files[above].kind == "folder":
            contents.folders[above] = contents.files.pop(above).mode  # it is not empty
    if any(part.startswith(OWN_PREFIX) for part in path.split("/")):
        raise damaged("it holds a file that is Nostos's own")
    stamp = (int(member.mtime * 1_000_000_000), 0)
    if member.kind == "folder":
        contents.files[path] = FileEntry(path, "folder", 0, member.mode, (0, 0),
                                         hashlib.blake2b(digest_size=16).digest())
        return
    if member.kind == "link":
        contents.files[path] = FileEntry(path, "link", 0, 0o777, stamp, hashlib.blake2b(
            member.target.encode("utf-8", "surrogateescape"), digest_size=16).digest())
        target = place(contents.files[path]) if place else None
        if target is not None:
            target.unlink(missing_ok=True)
            target.symlink_to(member.target)
        return
    target = place(FileEntry(path, "file", member.size, member.mode, stamp)) if place else None
    digest = hashlib.blake2b(digest_size=16)
    if target is None:
        for chunk in _chunks(body):
            digest.update(chunk)
    else:
        target.unlink(missing_ok=True)
        with target.open("xb") as out:
            for chunk in _chunks(body):
                digest.update(chunk)
                out.write(chunk)
        target.chmod(0o600)
        os.utime(target, ns=(stamp[0], stamp[0]))
    contents.files[path] = FileEntry(path, "file", member.size, member.mode, stamp, digest.digest())


def _chunks(body: Body) -> Iterator[bytes]:
    while chunk := body.read(CHUNK):
        yield chunk
