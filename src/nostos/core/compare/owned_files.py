"""Which columns name files, in tables of which no profile says so: a row and a file that came, or went, together, and
the one names the other by its path below a folder. The file then belongs to its row: it goes with it, or stays with it.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterator, Mapping, Sequence

from nostos.core.anchor.names import Side
from nostos.core.compare.file_changes import FileState
from nostos.core.compare.gather import full
from nostos.core.compare.row_states import Rows, RowState
from nostos.core.database.protocol import Database
from nostos.core.errors import SiteError
from nostos.core.files.tree import FileTree
from nostos.core.profiles.parts import OwnedFile

_SHORTEST, _LONGEST = 5, 500  # letters of a value that may be a path
# What stands in the name of a file made from another, in another size: mill-120x80.png, mill.png.64x64_q85.jpg.
_SIZES = (r"(?<=\.\w{3})\.\d+x\d+[\w-]*\.\w+$|(?<=\.\w{4})\.\d+x\d+[\w-]*\.\w+$"
          r"|[-_@.]\d+x\d+[\w-]*(?=\.\w+$)|[-_@]\d+[wx]?(?=\.\w+$)")
_SAMPLE = 40  # rows of a column that are asked for their files
_SHARE = 0.8  # of these whose files are there


def owned_files(rows: Rows, files: Sequence[FileState], databases: Mapping[Side, Database], live: FileTree
                ) -> tuple[OwnedFile, ...]:
    """Columns that name files, as far as a profile does not know them. live: live's files."""
    by_name: dict[str, list[FileState]] = {}
    for file in files:
        if len(file.path) >= _SHORTEST:
            by_name.setdefault(file.path.rpartition("/")[2], []).append(file)
    known = {(f.table, f.column) for f in rows.profile.files}
    votes: Counter[OwnedFile] = Counter()
    values: dict[OwnedFile, set[str]] = {}
    for state in rows.states.values() if by_name else ():
        for column, above, value, file in _named_by(state, by_name):
            kind = rows.profile.kind_of(state.table, full(state))
            if (state.table, column) in known or (kind is not None and not kind.natural):
                continue
            owned = OwnedFile(state.table, column, file.path[:-len(value)].rstrip("/"), variants=_SIZES, above=above)
            votes[owned] += 1
            values.setdefault(owned, set()).add(value)
    best: dict[tuple[str, str], OwnedFile] = {}
    for owned, _ in sorted(votes.items(), key=lambda vote: (bool(vote[0].above), -vote[1])):  # one column, before two
        place = (owned.table, owned.column)
        if place not in best and _is_owner(rows, owned, values[owned], databases, live):
            best[place] = owned
    groups = list(best.values())
    # Of two that name one file, what editors keep: it must not stay behind with what visitors leave.
    return tuple(sorted(groups, key=lambda o: rows.profile.is_visitors(o.table)))


def _named_by(state: RowState, by_name: Mapping[str, Sequence[FileState]]
              ) -> Iterator[tuple[str, str, str, FileState]]:
    """The values of a row that are paths of files which came, or went, on the side that it did: the column, the one
    that holds the folder where the name does not, and the path."""
    for raw, other in ((state.source_raw, state.target_raw), (state.target_raw, state.source_raw)):
        if raw is None or (state.base is None and other is not None):
            continue
        born = state.base is None
        for column, value in raw.items():
            if not isinstance(value, str) or not _SHORTEST <= len(value) <= _LONGEST or value.startswith("/"):
                continue
            for file in by_name.get(value.rpartition("/")[2], ()):
                if (file.base is None) != born or not _ends(file.path, value):
                    continue
                yield column, "", value, file
                for other_column, folder in raw.items() if "/" not in value else ():
                    path = f"{folder.strip('/')}/{value}" if isinstance(folder, str) and folder.strip("/") else ""
                    if path and _ends(file.path, path):
                        yield column, other_column, path, file


def _ends(path: str, value: str) -> bool:
    return path == value or path.endswith("/" + value)


def _is_owner(rows: Rows, owned: OwnedFile, values: set[str], databases: Mapping[Side, Database], live: FileTree
              ) -> bool:
    """Whether each such file is one row's alone, and what other rows of live's hold there are files, too."""
    for side, tables in ((rows.source, rows.source_tables), (rows.target, rows.target_tables)):
        table = tables.get(owned.table)
        if table is None or table.column(owned.column) is None:
            continue
        held = Counter(owned.path_in(row) for row in databases[side].find_any(
            table, owned.column, owned.held(values), {}))
        if any(held[value] > 1 for value in values):
            return False
    table = (rows.target_tables if rows.target is Side.LIVE else rows.source_tables).get(owned.table)
    sample = databases[Side.LIVE].sample(table, _SAMPLE) if table is not None and table.column(owned.column) else []
    others = {v for row in sample if row.get(owned.column) and isinstance(v := owned.path_in(row), str)} - values
    if not others:
        return all("/" in value for value in values)  # a bare name may be anything's
    above = f"{owned.folder}/" if owned.folder else ""
    paths = [above + v for v in others if not v.startswith("/")]
    with live.looking_ahead(("status", p) for p in paths):
        return sum(_is_there(live, p) for p in paths) >= _SHARE * len(others)


def _is_there(tree: FileTree, path: str) -> bool:
    try:
        return tree.status(path) is not None
    except SiteError:  # it is no path below this folder
        return False
