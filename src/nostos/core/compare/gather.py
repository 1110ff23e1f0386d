"""Items: what a person would name. Rows, files and pieces of schema gathered under `kind/name`."""

from __future__ import annotations

import re
from collections.abc import Iterable, Iterator, Sequence
from functools import partial
from typing import Any, TypeVar

from nostos.core.anchor.ancestors import Ancestors
from nostos.core.anchor.names import RowName, Side
from nostos.core.compare.field_merge import FieldMerge, Standing, merge
from nostos.core.compare.file_changes import FileState
from nostos.core.compare.items import Comparison, Field, Gained, Item, Work
from nostos.core.compare.portable import PREFIX, Portable, plain
from nostos.core.compare.row_states import Rows, RowState, base_key
from nostos.core.database.protocol import Database
from nostos.core.database.schema import Row, Table, Value
from nostos.core.files.entry import FileEntry
from nostos.core.patterns import spoken
from nostos.core.profiles.compared import Locals
from nostos.core.profiles.conditions import Where, holds
from nostos.core.profiles.parts import Child, Kind, OwnedFile
from nostos.core.profiles.policies import PLAIN, TEXT
from nostos.core.records import dataclass
from nostos.core.values import references as refs
from nostos.core.values.merging import ABSENT, same
from nostos.core.values.names import for_people
from nostos.core.values.tokens import OPEN

T = TypeVar("T")
_DEEPEST = 10  # parts of parts of parts


@dataclass(slots=True)
class _Draft:
    id: str
    kind: str
    root: RowName | None = None
    title: str = ""
    rows: Sequence[RowState] = ()  # most have one, and there are many
    files: Sequence[FileState] = ()
    folder: str = ""

    def add(self, state: RowState) -> None:
        self.rows = _with(self.rows, state)


def _with(some: Sequence[T], one: T) -> Sequence[T]:
    """A sequence and one more: a tuple of one, or a list that grows."""
    if not some:
        return (one,)
    grown = some if isinstance(some, list) else list(some)
    grown.append(one)
    return grown


def assemble(anchor: Ancestors, rows: Rows, files: list[FileState], schema: Iterable[Item], staging_db: Database,
             live_db: Database) -> Comparison:
    """Gather rows and files into items. schema: those that the schemas make."""
    drafts: dict[object, _Draft] = {}
    owner: dict[RowName, Any] = {}
    local = Locals(rows.profile)
    for state in rows.states.values():
        if any(v is not None and local.is_local(rows.table(state.table), {**plain(v), **state.joined})
               if local.depends(state.table) else local.always(rows.table(state.table))
               for v in {id(v): v for v in (state.base, state.target, state.source)}.values()):
            continue
        draft = _draft_for(anchor, rows, drafts, state)
        if draft is None:
            continue
        draft.add(state)
        owner[state.id] = draft
    file_owner: dict[str, _Draft] = {}
    naming = _NamingRows(rows, files, staging_db, live_db)
    for file in files:
        row = rows.numbered.get(file.path)
        draft = (_draft_of(anchor, rows, drafts, row) if row is not None else None) or _file_draft(
            rows, drafts, file, naming)
        if draft is None:
            continue
        draft.files = _with(draft.files, file)
        file_owner[file.path] = draft
    schema = tuple(schema)
    _tell_apart(drafts.values(), [i.id for i in schema])
    for name, draft in owner.items():
        owner[name] = draft.id
    items = {}
    gained = partial(_fields, anchor, rows)
    for key in list(drafts):  # one takes the place of the other: there may be very many
        item = _item(anchor, rows, drafts.pop(key), gained)
        if item is not None:
            items[item.id] = item
    for item in schema:
        items[item.id] = item
    items = dict(sorted(items.items()))
    for name in [n for n, item_id in owner.items() if item_id not in items]:
        del owner[name]
    return Comparison(items, rows, owner, {p: d.id for p, d in file_owner.items() if d.id in items})


# --- which item a row belongs to


def full(state: RowState) -> Row:
    """A row in any version there is, with what it is joined to: for telling its kind and its policies."""
    return {**plain(state.version()), **state.joined}


def _draft_for(anchor: Ancestors, rows: Rows, drafts: dict[object, _Draft], state: RowState) -> _Draft | None:
    """The item that a row is part of; None for parts of what is never compared."""
    row = full(state)
    child = rows.profile.child_of(state.table, row)
    if child is not None:
        for form in (state.source, state.target, state.base):
            parent = refs_to(form.get(child.of)) if form else None
            if parent is not None:
                root: RowName = (parent[0], (parent[1],))
                return _draft_of(anchor, rows, drafts, root)
    return _root_draft(rows, drafts, state.id, row, state)


def _draft_of(anchor: Ancestors, rows: Rows, drafts: dict[object, _Draft], root: RowName) -> _Draft | None:
    """The item that a row is part of, or the item that it is, by its name; None where it is gone."""
    known = rows.states.get(root)
    if known is not None:
        return _draft_for(anchor, rows, drafts, known)
    for _ in range(_DEEPEST):  # parts of parts
        row = _base(anchor, rows, root)
        if row is None:
            return None  # its root is never compared, or is gone
        child = rows.profile.child_of(root[0], row)
        up = refs_to(rows.base_translator.value(root[0], row, child.of)) if child is not None else None
        if up is None:
            return _root_draft(rows, drafts, root, row, None)
        root = (up[0], (up[1],))
        if root in rows.states:
            return _draft_for(anchor, rows, drafts, rows.states[root])
    return None


def refs_to(value: Any) -> refs.Named | None:
    """The row that a portable value names, when it is an id and nothing else."""
    inside = list(refs.inside(value)) if isinstance(value, str) else []
    return inside[0] if len(inside) == 1 else None


def _base(anchor: Ancestors, rows: Rows, name: RowName) -> Row | None:
    table = rows.target_tables.get(name[0])
    if table is None:
        return None
    key = base_key(table, name[1], rows.base_translator)
    row = anchor.base_row(name[0], key) if key is not None else None
    return rows.base_translator.full(name[0], row) if row is not None else None


def _root_draft(rows: Rows, drafts: dict[object, _Draft], root: RowName, row: Row, state: RowState | None) -> _Draft:
    if root not in drafts:
        kind = rows.profile.kind_of(root[0], row) or Kind(root[0], root[0])
        label = _label(kind, root, row, state, rows.table(root[0]))
        title = str(row.get(kind.title) or "") if kind.title else ""
        name = kind.named(row)
        drafts[root] = _Draft(f"{name}/{label}", name, root, readable(title))
    return drafts[root]


def _label(kind: Kind, root: RowName, row: Row, state: RowState | None, table: Table) -> str:
    keys = set(table.key)
    parts = []
    if state is not None and state.source and state.target and kind.gone and holds(kind.gone, plain(state.source)):
        row = {**row, **plain(state.target)}  # what is put aside may have another name there
    for column in kind.label or table.key:
        value = row.get(column)
        if column in keys and state is not None:
            key = state.target_key or state.source_key
            if key is not None:
                value = key[table.key.index(column)]
        if state is not None and OPEN in str(value):  # an id: by its number on the side that has it
            value = (state.source_raw or state.target_raw or {}).get(column, value)
        parts.append(str(value))
    name = ",".join(parts).replace(PREFIX, "").removeprefix(kind.strip).replace("\n", " ")
    return spoken(name) or ",".join(map(str, root[1]))


def readable(text: str) -> str:
    """A title on one line, of a length for a table, without markup."""
    plain = " ".join(re.sub(r"<[^>]*>|[\ufdd0][^\ufdd1]*[\ufdd1]", " ", text).split())
    return plain if len(plain) <= 60 else plain[:57].rstrip() + "..."


def _tell_apart(drafts: Iterable[_Draft], taken: Iterable[str]) -> None:
    """Give different things that carry one name names of their own. taken: names that are given out already."""
    by_id: dict[str, list[_Draft]] = {}
    for draft in drafts:
        by_id.setdefault(draft.id, []).append(draft)
    taken_names = {*by_id, *taken}
    counts: dict[str, int] = {}
    for name, alike in by_id.items():
        first = name not in taken
        for draft in alike if len(alike) > 1 or not first else ():
            root = next((r for r in draft.rows if r.id == draft.root), None)
            born = root is not None and root.base is None
            side = "staging" if born and root is not None and root.target is None else "live" if born else ""
            if side:
                draft.id = _free(f"{name}~{side}", taken_names, counts)
            elif not first or draft is not alike[0]:
                draft.id = _free(f"{name}~{draft.root[1][0]!s}" if draft.root else f"{name}~", taken_names, counts)
            taken_names.add(draft.id)


def _free(name: str, taken: set[str], counts: dict[str, int]) -> str:
    """A name that nothing else has: this one, or with a number. counts: by name, the last number that was tried."""
    candidate = name
    while candidate in taken:
        counts[name] = counts.get(name, 1) + 1
        candidate = f"{name}{counts[name]}"
    return candidate


class _NamingRows:
    """The rows that name files, with those that they are parts of: looked for in one pass a table and side."""

    def __init__(self, rows: Rows, files: Sequence[FileState], staging_db: Database, live_db: Database) -> None:
        self._rows = rows
        self._sides = ((Side.STAGING, staging_db, rows.source_tables), (Side.LIVE, live_db, rows.target_tables))
        self._found: dict[tuple[Side, OwnedFile], dict[Value, list[Row]]] = {}
        self._parents: dict[tuple[Side, str], dict[Value, Row]] = {}
        self._owned = (*rows.profile.files, *rows.profile.made_files)
        for owned in self._owned:
            for side, database, tables in self._sides:
                table = tables.get(owned.table)
                wanted = {v for file in files for v in owned.values(self._path(side, file))} if table else set()
                by_value: dict[Value, list[Row]] = {}
                for row in database.find_any(table, owned.column, owned.held(wanted), {}) if table and wanted else ():
                    if (parent := owned.path_in(row)) in wanted:
                        by_value.setdefault(parent, []).append(row)
                self._found[side, owned] = by_value
                self._look_above(side, database, [row for some in by_value.values() for row in some], owned.table)

    def _path(self, side: Side, file: FileState) -> str:
        return self._rows.names.files.get(file.path, file.path) if side is Side.STAGING else file.path

    def _look_above(self, side: Side, database: Database, rows_above: Sequence[Row], table: str) -> None:
        wanted: dict[str, set[Value]] = {}
        for row in rows_above:
            child = self._rows.profile.child_of(table, row)
            if child is not None:
                wanted.setdefault(child.owner, set()).add(row[child.of])
        for owner, keys in wanted.items():
            above = self._rows.table(owner)
            self._parents.setdefault((side, owner), {}).update(
                (row[above.key[0]], row) for row in database.find_any(above, above.key[0], sorted(keys, key=repr), {}))

    def of(self, file: FileState) -> Iterator[tuple[Side, OwnedFile, Row]]:
        """The rows that name a file, staging's first; those that it was made for last."""
        for owned in self._owned:
            for side, *_ in self._sides:
                for value in owned.values(self._path(side, file)):
                    yield from ((side, owned, row) for row in self._found[side, owned].get(value, ()))

    def parent(self, side: Side, table: str, key: Value) -> Row | None:
        """The row that such a row is part of."""
        return self._parents.get((side, table), {}).get(key)


def _file_draft(rows: Rows, drafts: dict[object, _Draft], file: FileState, naming: _NamingRows) -> _Draft | None:
    """The item of a file: its folder's, its row's, or one of its own; None for what each side makes for itself."""
    for folder in rows.profile.folders:
        above = f"{folder.parent}/" if folder.parent else ""
        if file.path.startswith(above):
            name, _, rest = file.path[len(above):].partition("/")
            if rest and folder.only in ("", name):
                path = above + name
                return drafts.setdefault(("folder", path), _Draft(f"{folder.kind}/{name}", folder.kind, folder=path))
    for side, owned, row in naming.of(file):
        if owned in rows.profile.made_files:
            return None
        root = _file_root(rows, drafts, side, naming, owned, row)
        if root is not None:
            return root
    return drafts.setdefault(("file", file.path), _Draft(f"file/{file.path}", "file"))


def _file_root(rows: Rows, drafts: dict[object, _Draft], side: Side, naming: _NamingRows, owned: OwnedFile,
               row: Row) -> _Draft | None:
    """The item of the row that names a file: the row's own, or that of the row that it is part of."""
    translator = rows.to_portable[side]
    if not holds(owned.where, row):
        return None
    name, table = owned.table, rows.table(owned.table)
    child = rows.profile.child_of(name, row)
    if child is not None:
        name, table = child.owner, rows.table(child.owner)
        parent = naming.parent(side, name, row[child.of])
        if parent is None:
            return None
        row = parent
    root = (name, (translator.keys.name(name, row[table.key[0]]),))
    return _root_draft(rows, drafts, root, translator.full(name, row), rows.states.get(root))


# --- the fields of an item


def _fields(anchor: Ancestors, rows: Rows, states: Sequence[RowState], root: RowState | None) -> tuple[Field, ...]:
    return tuple(f for state in states for f in _row_fields(anchor, rows, state, root=state is root))


def _item(anchor: Ancestors, rows: Rows, draft: _Draft, gained: Work) -> Item | None:
    root = next((r for r in draft.rows if r.id == draft.root), None)
    if root is not None and not draft.files and all(
            s.target is not None and s.base is None and s.source is None for s in draft.rows):
        # Of what live alone has a site may gain more than of all else.
        return Item(draft.id, draft.kind, draft.title, "new", Standing.KEPT, Gained(gained, draft.rows, root),
                    tuple(draft.rows), (), (), rows.profile.is_visitors(draft.kind), "", "", draft.root,
                    rows.profile.is_account(draft.kind))
    fields = list(_fields(anchor, rows, draft.rows, root))
    for file in draft.files:
        name = file.path[len(draft.folder) + 1:] if draft.folder else "file " + file.path
        base, live, staging = (_file_value(e) for e in (file.base, file.target, file.source))
        result = staging if file.standing is Standing.HOMEWARD else live
        policy = PLAIN if file.merged is None else TEXT
        if file.merged is not None:
            result = file.merged.decode()
        fields.append(Field(name, FieldMerge((), policy, base, live, staging, file.standing, result)))
    if not fields:
        return None
    change, reason = _change(anchor, draft, root, fields)
    if not reason and any(f.whole for f in draft.files):
        reason = "both sides changed it, and one of them its version: it is one side's as a whole"
    standing = Standing.CLASH if reason else overall(fields)
    opens = change != "removed" and any(_opens(rows, state) for state in draft.rows)
    return Item(draft.id, draft.kind, draft.title, change, standing, tuple(fields), tuple(draft.rows),
                tuple(draft.files), (), rows.profile.is_visitors(draft.kind), draft.folder, reason, draft.root,
                opens or rows.profile.is_account(draft.kind), opens)


def _opens(rows: Rows, state: RowState) -> bool:
    """Whether staging took away what keeps others from something, and live has it."""
    return any(state.table == table and state.base is not None and _keeps(where, state.target) and not _keeps(
        where, state.source) for table, where in rows.profile.protects)


def _keeps(where: Where, row: Portable | None) -> bool:
    """Whether a row keeps others from something, as a profile says which do; nothing at all in a column never does."""
    return row is not None and holds(where, plain(row)) and all(row.get(c) is not None for c, _ in where)


def _file_value(entry: FileEntry | None) -> Any:
    if entry is None:
        return ABSENT
    digest = entry.digest.hex()[:12] if entry.digest else "?"
    if entry.kind == "folder":
        return f"empty folder, mode {entry.mode:o}"
    what = f"link {digest}" if entry.kind == "link" else f"{entry.size:,} bytes, {digest}"
    return f"{what}, mode {entry.mode:o}"


def _change(anchor: Ancestors, draft: _Draft, root: RowState | None, fields: list[Field]) -> tuple[str, str]:
    """What was done to an item, and why it cannot be merged at all, if so."""
    if root is not None:
        states = (root.base is not None, root.target is not None, root.source is not None)
        if states == (True, True, False):
            built = [f for f in fields if f.standing in (Standing.KEPT, Standing.CLASH)]
            return "removed", "removed in staging, but live has changed it since" if built else ""
        if states == (True, False, True):
            changed = [f for f in fields if f.standing in (Standing.HOMEWARD, Standing.CLASH)]
            return "removed", "removed on live, but staging has changed it since" if changed else ""
        if states == (True, False, False):
            return "removed", ""
        if not states[0]:
            return "new", ""
        return "edited", ""
    if draft.files and not draft.rows:
        before = sum(f.base is not None for f in draft.files)
        if not before and not (draft.folder and anchor.below(draft.folder)):
            return "new", ""
        gone = all(f.target is None for f in draft.files) or all(f.source is None for f in draft.files)
        if gone and (not draft.folder or before == anchor.below(draft.folder)):
            return "removed", ""
    return "edited", ""


def overall(fields: Iterable[Field]) -> Standing:
    """How an item stands by its fields. Times of change follow the rest; alone they say nothing."""
    standings = {f.standing for f in fields if not f.merged.policy.quiet}
    if Standing.CLASH in standings:
        return Standing.CLASH
    if Standing.BLENDED in standings or {Standing.HOMEWARD, Standing.KEPT} <= standings:
        return Standing.BLENDED
    if Standing.HOMEWARD in standings:
        return Standing.HOMEWARD
    return Standing.KEPT if Standing.KEPT in standings else Standing.SETTLED


def _row_fields(anchor: Ancestors, rows: Rows, state: RowState, root: bool) -> Iterator[Field]:
    table, row = rows.table(state.table), full(state)
    child = None if root else rows.profile.child_of(state.table, row)
    prefix = _child_name(anchor, rows, child, state) if child else ""
    hidden = set(table.key) if table.surrogate else set()
    if child:
        hidden |= {child.of, *child.label}
    versions = (state.base, state.target, state.source)
    hidden |= rows.dropped(state.table)
    columns = [c for c in dict.fromkeys(c for v in versions if v for c in v) if c not in hidden]

    def is_compared(column: str) -> bool:
        return rows.profile.policy(state.table, row, column).compared

    # Most columns of most rows are the same on all sides, and what a profile says of them is not asked.
    forms = [v for v in versions if v is not None]
    changed = columns if len(forms) < len(versions) else [c for c in columns if not all(
        same(forms[0].get(c, ABSENT), form.get(c, ABSENT)) for form in forms[1:])]
    compared = [c for c in changed if is_compared(c)]
    if not compared:  # a link: that it is there is all it says
        base, live, staging = (ABSENT if v is None else "yes" for v in versions)
        for m in merge(PLAIN, base, live, staging):
            yield Field(prefix or "row", m, state.id)
        return
    only = bool(prefix) and sum(map(is_compared, columns)) == 1
    for column in compared:
        base, live, staging = (_cell(rows, state.table, column, form) for form in versions)
        paths = rows.profile.path_policies(state.table, row, column)
        for m in merge(rows.profile.policy(state.table, row, column), base, live, staging, paths):
            name = prefix if only else f"{prefix}.{column}" if prefix else column
            yield Field(for_people(".".join((name, *m.path))), m, state.id, column)


def _cell(rows: Rows, table: str, column: str, form: Portable | None) -> Any:
    """A row's value for a column. A column that one side lacks counts as its default on the other."""
    if form is None:
        return ABSENT
    if column in form:
        return form[column]
    for tables in (rows.source_tables, rows.target_tables):
        column_of = tables[table].column(column) if table in tables else None
        if column_of is not None:
            return rows.engine.default_value(column_of)
    return None


def _child_name(anchor: Ancestors, rows: Rows, child: Child, state: RowState) -> str:
    form = state.version()
    labels = []
    for column in child.label:
        named = refs_to(form.get(column))
        text = str(form.get(column)).replace(PREFIX, "")
        labels.append(_row_label(anchor, rows, named) if named else
                      describe_reference(anchor, rows, text) if OPEN in text else text)
    return f"{child.name} {','.join(labels)}".strip() if labels else child.name


def _row_label(anchor: Ancestors, rows: Rows, named: refs.Named) -> str:
    """What a row that is pointed at is called."""
    name: RowName = (named[0], (named[1],))
    state = rows.states.get(name)
    row = full(state) if state else _base(anchor, rows, name)
    if row is None:
        return " ".join(named)
    child = rows.profile.child_of(named[0], row)
    parent = refs_to(state.version().get(child.of)) if child and state else None
    if child and not state:  # an unchanged part of something: what it is part of names it
        form = rows.base_translator.row(named[0], {k: v for k, v in row.items() if rows.table(named[0]).column(k)})
        parent = refs_to(form.get(child.of))
    if parent is not None and parent != named:
        return _row_label(anchor, rows, parent)
    kind = rows.profile.kind_of(named[0], row) or Kind(named[0], named[0])
    return f"{kind.named(row)}/{_label(kind, name, row, state, rows.table(named[0]))}"


def describe_reference(anchor: Ancestors, rows: Rows, text: str) -> str:
    """A portable text for people: ids by the name of what they point at, the base URL as {site}."""
    text = for_people(text)
    up = refs.begun(text)
    if up is not None:
        where = f"below [{_row_label(anchor, rows, (up.table, up.name))}]" if up.name else "below nothing"
        text = f"{where}, {up.rest}"
    written = refs.write(text, lambda table, name: f"[{_row_label(anchor, rows, (table, name))}]")
    return re.sub("\ufdd0u:[^\ufdd1]*\ufdd1", "{site}", written).replace(PREFIX, "{prefix}")
