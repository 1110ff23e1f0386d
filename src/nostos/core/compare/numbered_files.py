"""Files that lie under the number of a row (`img/17.jpg`, `uploads/product/17/front.jpg`): they are part of that row's
item, and where the row gets another number on the other side they would be another thing's.

That a number in a path is a row's is never concluded from the number alone. Other numbers that stand there on live have
to be keys of that table; and besides, the row has to name the file, or the folder or file to be called after the table,
or most of its rows to have one there.
"""

from __future__ import annotations

import re
from collections.abc import Collection, Iterable, Iterator, Mapping, Sequence
from dataclasses import field

from nostos.core.anchor.names import RowName, Side
from nostos.core.compare.file_changes import FileState
from nostos.core.compare.row_states import Rows
from nostos.core.database.protocol import Database
from nostos.core.database.schema import Row, Table
from nostos.core.errors import SiteError
from nostos.core.files.tree import FileTree
from nostos.core.records import dataclass
from nostos.core.values.words import words

_KEYS = 0.95  # of the numbers that stand there, those that have to be keys: a row may be gone, and its file not
_MANY, _COVERED = 8, 0.5  # numbers, and which part of a table's rows, that say it without a name
_MOST_NAMES, _MOST_GROUPS = 20_000, 40  # in one folder; folders of parted numbers
_SHORTEST = 4  # letters of a name that is found in a row
_GROUP = 3  # digits in a folder's name, where a number is parted among several: 000/000/017


@dataclass(frozen=True)
class _NumberPlace:
    """Where a number stands in a path. rest: from its name on; folder: above it; before, after: what stands around it
    in the same name. joined: the digits of the folders above that are part of the number."""

    rest: str
    folder: str
    before: str
    after: str
    number: int
    joined: str = ""


def _places(path: str) -> Iterator[_NumberPlace]:
    """Every number of a path that stands by itself in a name."""
    parts = path.split("/")
    for at, part in enumerate(parts):
        folder = "/".join(parts[:at])
        last = at == len(parts) - 1
        for match in re.finditer(r"(?<![0-9A-Za-z])\d{1,18}(?![0-9A-Za-z])", part):
            if not last and match.group() != part:
                continue  # of a folder the whole name, else it is a word of it
            joined = ""
            for above in reversed(parts[:at]) if match.group() == part.partition(".")[0] else ():
                if not (len(above) == _GROUP == len(match.group()) and above.isdigit()):
                    break
                joined = above + joined
            if _is_date(parts[:at], match.group()):
                continue
            yield _NumberPlace("/".join(parts[at:]), folder, part[:match.start()], part[match.end():][:1],
                         int(joined + match.group()), joined)


def _is_date(above: Sequence[str], number: str) -> bool:
    """Whether a number is a month below a year, or a day below both."""
    def year(name: str) -> bool:
        return len(name) == 4 and name.isdigit() and name[:2] in ("19", "20")

    return len(number) <= 2 and bool(above) and (
        (year(above[-1]) and int(number) <= 12)
        or (len(above) > 1 and year(above[-2]) and above[-1].isdigit() and int(above[-1]) <= 12 and int(number) <= 31))


@dataclass
class _NumberEvidence:
    """What is known of places and of tables, each asked once."""

    rows: Rows
    database: Database  # live's
    live: FileTree
    listed: dict[str, list[str]] = field(default_factory=dict)
    keys: dict[tuple[str, str, str, str], set[int]] = field(default_factory=dict)

    def numbers_at(self, place: _NumberPlace) -> set[int] | None:
        """The numbers that stand at such a place on live; None where they are written as days and months are."""
        groups = len(place.joined) // _GROUP
        above = [("/".join(place.folder.split("/")[:-groups]) if groups else place.folder, "")]
        for _ in range(groups):  # 000/000/017 stands beside 000/001/002
            above = [(f"{folder}/{name}".strip("/"), joined + name) for folder, joined in above
                     for name in self.names(folder) if len(name) == _GROUP and name.isdigit()][:_MOST_GROUPS]
        shape = re.compile(re.escape(place.before) + r"(\d{1,18})(?![0-9A-Za-z])" + re.escape(place.after))
        joined_paths = [joined + match.group(1) for folder, joined in above for name in self.names(folder)
                if (match := shape.match(name))]
        if any(len(number) == 2 and number[0] == "0" for number in joined_paths):
            return None
        return {int(number) for number in joined_paths}

    def names(self, folder: str) -> list[str]:
        """What a folder of live's holds."""
        if folder not in self.listed:
            try:
                self.listed[folder] = self.live.names(folder)[:_MOST_NAMES]
            except (SiteError, OSError):
                self.listed[folder] = []
        return self.listed[folder]

    def are_keys(self, table: Table, place: _NumberPlace, numbers: Collection[int]) -> set[int]:
        """Which of these are keys of a table on live."""
        asked = (table.name, place.folder, place.before, place.after)
        if asked not in self.keys:
            self.keys[asked] = {int(str(table.key_of(r)[0])) for r in self.database.fetch_many(
                table, [(n,) for n in sorted(numbers)])} if numbers else set()
        return self.keys[asked]

    def says(self, place: _NumberPlace, path: str, name: str, raws: Sequence[Row]) -> bool:
        """Whether a number in a path is that of a row of a table. raws: the row, as the sides have it."""
        table = self.rows.table(name)
        on_live = self.rows.target_tables if self.rows.target is Side.LIVE else self.rows.source_tables
        files = self.numbers_at(place)
        if files is None:
            return False
        numbers = files - {place.number} if name in on_live else set()
        keys = self.are_keys(table, place, numbers)
        if len(keys) < _KEYS * len(numbers):
            return False
        if any(isinstance(v, str) and v.endswith(place.rest) and len(place.rest) > len(path.rpartition("/")[2])
               for raw in raws for v in raw.values()):
            return False  # the row says the whole path, so its number has nothing to do with it
        if (_names(raws, path) and len(keys) > 1) or _called_after(place, table):
            return True
        return len(keys) >= _MANY and len(keys) >= _COVERED * self.database.count(name)


def _names(raws: Iterable[Row], path: str) -> bool:
    """Whether a row says what the file is called."""
    name = path.rpartition("/")[2]
    known = {name, name.partition(".")[0]}
    return any(isinstance(v, str) and len(v) >= _SHORTEST and (v in known or v.endswith(f"/{name}"))
               and not v.isdigit() for raw in raws for v in raw.values())


def _called_after(place: _NumberPlace, table: Table) -> bool:
    """Whether what stands right before a number is what the rows of a table are called."""
    path_words = words(place.before) or words(place.folder.rpartition("/")[2])
    if place.joined:
        path_words = words(re.sub(r"(?:/\d+)+$", "", "/" + place.folder).rpartition("/")[2])
    mine = words(table.name)
    return bool(path_words) and len("".join(path_words)) >= _SHORTEST and mine[-len(path_words):] == path_words


def numbered(rows: Rows, files: Sequence[FileState], databases: Mapping[Side, Database], live: FileTree
             ) -> dict[str, RowName]:
    """Files that came, changed or went, by path, with the rows under whose numbers they lie: rows that moved, too, and
    such as have another number on the other side. live: live's files."""
    keys = {rows.source: rows.source_keys, rows.target: rows.target_keys}
    tables = {rows.source: rows.source_tables, rows.target: rows.target_tables}
    stand = {file.path: list(_places(file.path)) for file in files}
    wanted = {place.number for some in stand.values() for place in some}
    by_number: dict[Side, dict[int, dict[RowName, list[Row] | None]]] = {side: {} for side in Side}
    for state in rows.states.values() if wanted else ():
        held = [raw for raw in (state.source_raw, state.target_raw) if raw]
        for side, key in ((rows.source, state.source_key), (rows.target, state.target_key)):
            if key is not None and key[0] in wanted and isinstance(key[0], int) and rows.table(state.table).surrogate:
                by_number[side].setdefault(key[0], {})[state.id] = held
    for side in Side if wanted else ():
        for name, number, called in keys[side].renamed():
            if number in wanted and isinstance(number, int) and called.isdigit() and name in tables[side]:
                by_number[side].setdefault(number, {}).setdefault((name, (called,)), None)
    evidence = _NumberEvidence(rows, databases[Side.LIVE], live)
    owners = {c.table: c.owner for c in rows.profile.children}
    known = {(o.folder.split("/")[0], t) for o in rows.profile.files for t in (o.table, owners.get(o.table))}
    places = {}
    for file in files if any(by_number.values()) else ():
        side = rows.source if file.source is not None or file.target is None else rows.target
        fitting = set()
        for place in stand[file.path]:
            for row, raws in by_number[side].get(place.number, {}).items():
                if (file.path.split("/")[0], row[0]) not in known:
                    there = databases[side].fetch(tables[side][row[0]], (place.number,)) if raws is None else None
                    if evidence.says(place, file.path, row[0], [there] if there else raws or []):
                        fitting.add(row)
        if len(fitting) == 1:
            places[file.path] = fitting.pop()
    return places
