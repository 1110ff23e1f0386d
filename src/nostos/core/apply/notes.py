"""What an operation will change in the anchor, as data: written down before the commit, carried out after it.

So what counts as the ancestor of a row or a file is what the operation itself wrote, seen inside its transaction; and
whoever carries it out, this process or one that recovers later, needs neither of the sites for it to be right.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping
from contextlib import suppress
from dataclasses import field, replace
from pathlib import Path
from typing import Any

import msgspec

from nostos.core.anchor.names import Side
from nostos.core.anchor.store import SMALL_TEXT, Anchor
from nostos.core.database.schema import Key, Row, Table, Value
from nostos.core.errors import SiteError
from nostos.core.files.entry import FileEntry, digest_of, plain_text
from nostos.core.files.tree import FileTree
from nostos.core.private_files import write_private
from nostos.core.records import dataclass
from nostos.core.values.packed import squeeze, unsqueeze

FILE = "anchor.msgpack.zst"
AHEAD, REST = PARTS = ("anchor-ahead.msgpack.zst", "anchor-rest.msgpack.zst")  # what is known before anything is held


@dataclass
class AnchorNotes:
    """Takes down changes in the order in which they are to be made."""

    lines: list[list[Any]] = field(default_factory=list)

    def owned_by(self, *owner: Any) -> None:
        """What follows is the record of one thing: a row by its table and live's key, or a file by its path."""
        self.lines.append(["owner", *owner])

    def advance_row(self, table: str, key: Key, row: Row | None) -> None:
        """The ancestor of a row, by its key there, is this from now on; None: there is none."""
        self.lines.append(["row", table, list(key), row])

    def set_digest(self, side: Side, table: str, key: Key, digest: bytes | None) -> None:
        """A side's row has this digest (16 bytes), so that it counts as unmoved; None: it is gone."""
        self.lines.append(["digest", str(side), table, list(key), digest])

    def pair(self, side: Side, table: str, key: Value, name: str) -> None:
        """A side's row with this key is called so on both sides from now on."""
        self.lines.append(["pair", str(side), table, key, name])

    def remember_table(self, side: Side, table: Table) -> None:
        """A side has this table now, so defined."""
        self.lines.append(["table", str(side), msgspec.to_builtins(table)])

    def know_alike(self, pairs: Mapping[str, list[str]]) -> None:
        """Definitions that mean the same though the two sides' servers write them differently."""
        self.lines.append(["alike", dict(pairs)])

    def forget_table(self, name: str) -> None:
        """The ancestor has no such table any more."""
        self.lines.append(["no table", name])

    def revert(self, operation: str, owners: list[tuple[Any, ...]]) -> None:
        """What an earlier operation had changed in the anchor is as it was before, for these things alone."""
        self.lines.append(["revert", operation, [list(o) for o in owners]])

    def file(self, path: str, toward: Side, base: FileEntry | None, target: FileEntry | None, written: bool) -> None:
        """base: the ancestor, as the source has it. target: what the target has. written: it is what the operation
        writes there, so that its stamp is not known yet."""
        self.lines.append(["file", path, str(toward), _plain(base), _plain(target), written])

    def write(self, folder: Path, name: str = FILE, before: str = "", after: str = "") -> None:
        """Keep them in an operation's folder, flushed to disk. before, after: the names of notes there that were
        written by themselves, and come before and after these."""
        write_private(folder / name, squeeze([*([["part", before]] if before else ()), *self.lines,
                                              *([["part", after]] if after else ())]))

    @classmethod
    def read(cls, folder: Path) -> AnchorNotes:
        """The notes that an operation left in its folder; none where it left none."""
        place = folder / FILE
        lines = unsqueeze(place.read_bytes()) if place.is_file() else []
        return cls([one for line in lines for one in (
            unsqueeze((folder / line[1]).read_bytes()) if line[0] == "part" and line[1] in PARTS else [line])])

    def carry_out(self, anchor: Anchor, name: str, target: FileTree, source: FileTree) -> None:
        """Make the changes, all or none. name: whose doing it is, for taking it back. target, source: the trees that
        files were written in and came from; a file there that is another by now is not believed."""
        steps: dict[str, Callable[..., None]] = {
            "owner": anchor.owned_by,
            "row": lambda table, key, row: anchor.advance_row(table, tuple(key), row),
            "digest": lambda side, table, key, digest: anchor.set_digest(Side(side), table, tuple(key), digest),
            "pair": lambda side, table, key, called: anchor.pair(Side(side), table, key, called),
            "table": lambda side, table: anchor.remember_table(Side(side), msgspec.convert(table, Table)),
            "no table": anchor.forget_table,
            "alike": anchor.know_alike,
            "revert": lambda operation, owners: anchor.revert(operation, [tuple(o) for o in owners]),
            "file": _Files(anchor, target, source).settle}
        files = [notes for what, *notes in self.lines if what == "file"]
        with anchor.changing(), anchor.recording(name), anchor.adding_up_later(), target.looking_ahead(
                asked for path, _, base, _, written in files for asked in (
                    *([("entry", path, True)] if written else ()), *([target.small(path)] if base else ()))):
            for what, *notes in self.lines:
                steps[what](*notes)


def _plain(entry: FileEntry | None) -> Any:
    return None if entry is None else msgspec.to_builtins(entry, builtin_types=(bytes,))


def _entry(entry: Any) -> FileEntry | None:
    return None if entry is None else msgspec.convert(entry, FileEntry)


class _Files:
    def __init__(self, anchor: Anchor, target: FileTree, source: FileTree) -> None:
        self.anchor = anchor
        self.target = target
        self.source = source

    def settle(self, path: str, toward: str, said_base: Any, said_target: Any, written: bool) -> None:
        """Settle one file, with the stamps that it has by now on both sides."""
        base, now = _entry(said_base), _entry(said_target)
        side = Side(toward)
        self.anchor.owned_by(path)
        self.anchor.keep_base_file(base, path, self._text(path, base))
        self.anchor.keep_file(side.other, path, base)
        if written and now is not None:
            entry = None
            with suppress(OSError, SiteError):
                entry = self.target.entry(path, digest=True)
            # Where live has changed it since, it is looked at next time.
            now = entry if entry is not None and entry.same_as(now) else replace(now, stamp=(0, 0))
        self.anchor.keep_file(side, path, now)

    def _text(self, path: str, entry: FileEntry | None) -> bytes | None:
        """The content of a small text, from wherever it is to be had still."""
        if entry is None or entry.kind != "file" or entry.size > SMALL_TEXT:
            return None
        for tree in (self.target, self.source):
            with suppress(OSError, SiteError):
                content = tree.read(path, SMALL_TEXT + 1)
                if digest_of(content) == entry.digest:
                    return plain_text(content)
        return None
