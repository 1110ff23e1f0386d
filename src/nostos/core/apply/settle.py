"""After a merge the anchor advances over what is the same on both sides now. Here that is worked out, as notes."""

from __future__ import annotations

from collections.abc import Callable, Iterable
from typing import Any

from nostos.core.anchor.alike import alike
from nostos.core.anchor.names import FILES, Keys, RowName, Side, names_of, numbers_of, of_anchor, steps_of
from nostos.core.anchor.rows import ALWAYS_LOOK
from nostos.core.anchor.store import Anchor
from nostos.core.apply.notes import AnchorNotes
from nostos.core.apply.rows.write import CommitResult
from nostos.core.compare.field_merge import Role, Standing
from nostos.core.compare.items import TRAVELS, Comparison, Field, Item, SchemaAction
from nostos.core.compare.nesting import numbered
from nostos.core.compare.portable import Portable, Unresolved, ValueWriter
from nostos.core.compare.row_states import Rows, RowState, base_key
from nostos.core.database.rows.row_bytes import RowForm, row_form
from nostos.core.database.schema import Key, Row, Table, Value, definitions
from nostos.core.files.entry import FileEntry
from nostos.core.plan.operations import InsertRow, Plan, PutFile, SchemaOperation, SwitchFolder
from nostos.core.profiles.row_trees import RowTree
from nostos.core.values import references as refs
from nostos.core.values import structures
from nostos.core.values.merging import ABSENT
from nostos.core.values.names import packed
from nostos.core.values.structures import StructuredValue


def settle_ahead(anchor: Anchor, comparison: Comparison, plan: Plan, tables: dict[str, Table],
                 toward: Side) -> tuple[AnchorNotes, frozenset[RowName]]:
    """How the anchor advances where that does not hang on what the transaction finds: over what the operation does not
    touch (what both sides had changed alike, what was decided for the target), and over edits of what was there that
    point at nothing new. Returns that, and these edits' rows. Arguments as of `settle`."""
    notes = AnchorNotes()
    taken = {i.id for i in plan.selection.items}
    rest = [i for i in comparison.items.values() if i.id not in taken and not i.gained]
    rows = _Settler(anchor, notes, comparison.rows, CommitResult(), tables, toward)
    _rows(rows, rest, set(), lambda _: True)
    done_files = {f.path for f in plan.settled_files}
    for item in comparison.items.values():
        for file in item.files:
            if file.path not in done_files and (file.standing is Standing.SETTLED or file.decided is Role.TARGET):
                notes.file(file.path, toward, file.source, file.target, written=False)
    if toward is not Side.LIVE or plan.of(SchemaOperation):
        return notes, frozenset()
    new = {(o.table, str(o.name[0])) for o in plan.of(InsertRow)}
    ahead = frozenset(s.id for i in plan.selection.items for s in comparison.items[i.id].rows
                      if rows.stands_alone(s, new))
    _rows(rows, [comparison.items[i.id] for i in plan.selection.items], {s.id for s in plan.settles},
          lambda state: state.id in ahead)
    return notes, ahead


def settle_fresh(anchor: Anchor, comparison: Comparison, plan: Plan, done: CommitResult, tables: dict[str, Table],
                 toward: Side) -> AnchorNotes:
    """What `settle` says of rows that stay as they are (`done.fresh`): it need not wait until others are locked.
    Arguments as of `settle`."""
    notes = AnchorNotes()
    rows = _Settler(anchor, notes, comparison.rows, done, tables, toward)
    _rows(rows, [comparison.items[i.id] for i in plan.selection.items], {s.id for s in plan.settles}, rows.is_fresh)
    return notes


def settle(anchor: Anchor, comparison: Comparison, plan: Plan, done: CommitResult, tables: dict[str, Table],
           toward: Side, ahead: frozenset[RowName] = frozenset()) -> AnchorNotes:
    """How the anchor advances over what was taken: it becomes the common ancestor. Nothing is read from the sites for
    it: rows are as the operation found and left them inside its transaction, or as they were compared.

    tables: the target's, as the operation leaves them. toward: which side the target is; the comparison is seen from
    there. ahead: the rows that `settle_ahead` has settled.
    """
    notes = AnchorNotes()
    settled = {s.id for s in plan.settles}
    for operation in plan.of(SchemaOperation):
        step = operation.step
        if step.what == "table" and step.action is SchemaAction.ADD:
            for side in Side:
                notes.remember_table(side, tables[step.table])
        elif step.what == "table":
            notes.forget_table(step.table)
    steps = {p for o in plan.of(SchemaOperation) for p in (
        f"{o.step.what}/{o.step.table}.{o.step.name}", *(definitions(tables[o.step.table])
                                                         if o.step.what == "table" and o.step.table in tables else ()))}
    if steps:
        source = comparison.rows.source_tables
        both = (tables, source) if toward is Side.LIVE else (source, tables)
        notes.know_alike(alike(*both, steps))
    rows = _Settler(anchor, notes, comparison.rows, done, tables, toward)
    written = _written_files(plan)
    rows.moved_along()
    _rows(rows, [comparison.items[i.id] for i in plan.selection.items], settled,
          lambda state: state.id not in ahead and not rows.is_fresh(state))
    rows.renumbered(plan.settles)
    for file in plan.settled_files:
        other = rows.rows.names.files.get(file.path)
        notes.file(file.path, toward, file.source, written.get(file.path), written=True)
        if other is not None:
            notes.pair(Side.STAGING, FILES, file.path, other)
    return notes


def _rows(rows: _Settler, items: Iterable[Item], settled: set[RowName], asked: Callable[[RowState], bool]) -> None:
    """Settle those rows of items that are asked for."""
    for item in items:
        states = [state for state in item.rows if asked(state)]
        by_row: dict[RowName, list[Field]] = {}
        for f in item.fields if states else ():
            if f.row is not None:
                by_row.setdefault(f.row, []).append(f)
        for state in states:
            rows.row(state, by_row.get(state.id, []), state.id in settled)


def _along(known: Value, before: Value, after: Value) -> Value:
    """What is known of a place, moved as the row was that went from one to another: it gets the same new beginning."""
    if not all(isinstance(v, str) for v in (known, before, after)):
        return known
    known, before, after = str(known), str(before), str(after)
    alike = next((n for n, (a, b) in enumerate(zip(reversed(before), reversed(after), strict=False)) if a != b),
                 min(len(before), len(after)))
    head = before[:len(before) - alike]
    return after[:len(after) - alike] + known[len(head):] if known.startswith(head) else known


def _written_files(plan: Plan) -> dict[str, FileEntry]:
    return {put.path: put.entry for o in plan.of(PutFile, SwitchFolder)
            for put in (o.puts if isinstance(o, SwitchFolder) else (o,))}


class _Settler:
    """The anchor holds rows as live writes them, whichever side is the target."""

    def __init__(self, anchor: Anchor, notes: AnchorNotes, rows: Rows, done: CommitResult, tables: dict[str, Table],
                 toward: Side) -> None:
        self.anchor = anchor
        self.notes = notes
        self.rows = rows
        self.done = done
        self.toward = toward
        self.tables = tables
        self.changed = {(c.table, c.key): c for c in done.changed}
        self._forms: dict[str, tuple[tuple[str, ...], RowForm]] = {}
        home = toward is Side.LIVE
        self.real_keys = rows.target_keys if home else rows.source_keys
        urls = rows.target_urls if home else rows.to_portable[Side.LIVE].urls
        self.writer = ValueWriter(urls, self._number, rows.target_prefix if home else rows.source_prefix)

    def _number(self, table: str, name: str) -> Any:
        """Live's own key."""
        key = self.done.keys.get((table, name)) if self.toward is Side.LIVE else None
        key = self.real_keys.key(table, name) if key is None else key
        if key is None:
            raise Unresolved(table, name)
        return key

    def is_fresh(self, state: RowState) -> bool:
        key = self.done.inserted.get(state.id, state.target_key)
        return key is not None and (state.table, key) in self.done.fresh

    def stands_alone(self, state: RowState, new: set[tuple[str, str]]) -> bool:
        """Whether a row is an edit of what was there, in no tree, that points at nothing new. new: by table and
        canonical name, what the operation inserts."""
        base, source = state.base, state.source
        if base is None or source is None or state.target is None or self.rows.profile.placed_in(state.table):
            return False
        return not any(named in new for form in (base, source) for value in form.values()
                       for named in refs.inside(value))

    def row(self, state: RowState, fields: list[Field], taken: bool) -> None:
        """Tell the anchor of one row that was decided: its ancestor, its digests, its name on both sides."""
        over = [f for f in fields if f.standing is Standing.SETTLED or (taken and f.standing in TRAVELS)
                or f.merged.decided is Role.TARGET]
        if not over:
            return
        owner = self.done.inserted.get(state.id) or state.target_key
        self.notes.owned_by(state.table, *(owner or ("", *state.name)))
        for side, key in state.stale:
            self.notes.set_digest(side, state.table, key, None)
        if state.source is None:
            self._without_source(state, taken)
        elif state.target is None:
            self._without_target(state)
        else:
            self._updated(state, over, len(over) == len(fields))

    def _keys(self, state: RowState, target_key: Key | None) -> dict[Side, Key | None]:
        return {self.toward: target_key, self.toward.other: state.source_key}

    def _without_source(self, state: RowState, taken: bool) -> None:
        """The source has the row no more: neither has the target now, unless it was decided that it stays there."""
        key = base_key(self.rows.table(state.table), state.name, self.rows.base_translator)
        if key is not None:
            self.notes.advance_row(state.table, key, None)
        if state.source_key is not None and not self._is_anothers(self.rows.source_keys, state, state.source_key):
            self.notes.set_digest(self.toward.other, state.table, state.source_key, None)
        if state.target_key is not None and not self._is_anothers(self.rows.target_keys, state, state.target_key):
            if state.target is None or taken:
                self.notes.set_digest(self.toward, state.table, state.target_key, None)
            elif state.target_digest:
                self.notes.set_digest(self.toward, state.table, state.target_key, state.target_digest)

    def _is_anothers(self, keys: Keys, state: RowState, key: Key) -> bool:
        """Whether a side has since given a row's key to another, which came home: what is known of the key is of that.
        """
        return self.rows.table(state.table).surrogate and keys.is_anothers(state.table, key[0], str(state.name[0]))

    def _without_target(self, state: RowState) -> None:
        """The target did not have the row: now it has it, or it was decided that it stays without."""
        key = self.done.inserted.get(state.id)
        if key is not None:
            if state.target_key is not None:  # it had been there, under another key
                self.notes.set_digest(self.toward, state.table, state.target_key, None)
            self._paired(state, key, [])
            return
        real = base_key(self.rows.table(state.table), state.name, self.rows.base_translator)
        row = self._source_row(state, state.source or {})
        if real is None or row is None or state.source_key is None:
            return
        self.notes.advance_row(state.table, real, row)
        self.notes.set_digest(self.toward.other, state.table, state.source_key, state.source_digest or ALWAYS_LOOK)
        if state.target_key is not None:
            self.notes.set_digest(self.toward, state.table, state.target_key, None)

    def _source_row(self, state: RowState, form: Portable) -> Row | None:
        """A portable row as live writes it; None when it rests on something that live does not have. Places in trees
        are as the ancestor has them, or else the side that has the row."""
        placed = {c for c in self.rows.profile.placed_in(state.table) if c in form}
        try:
            row = self.writer.row({c: v for c, v in form.items() if c not in placed})
        except Unresolved:
            return None
        if placed:
            key = base_key(self.rows.table(state.table), state.name, self.rows.base_translator)
            known = self.anchor.base_row(state.table, key) if key is not None else None
            row.update({c: (known or state.source_raw or state.target_raw or {}).get(c) for c in placed})
        return row

    def renumbered(self, taken: Iterable[RowState]) -> None:
        """Trees by intervals: what each row was below, with what was taken, numbered as one; else some of them would be
        known by old numbers, and some by new ones."""
        states = [s for s in taken if s.source is not None]
        for tree in self.rows.profile.nested:
            mine = [s for s in states if s.table == tree.table]
            if not tree.tells or not mine or self.rows.base_translator.places is None:
                continue
            above = dict(self.rows.base_translator.places.nests.all_above(tree))
            for state in mine:
                up = refs.begun((state.source or {}).get(tree.tells))
                key = self._anchor_key(state.table, str(state.name[0]))
                if up is not None and key is not None and (key in above or state.id in self.done.inserted):
                    above[key] = self._anchor_key(up.table, up.name) if up.name else None
            known = {k: row for k in above if (row := self.anchor.base_row(tree.table, (k,))) is not None}
            for key, values in numbered(tree, above, known).items():
                self.notes.owned_by(tree.table, key)
                row = known.get(key) or next((dict(c.after) for c in self.done.changed if c.after is not None and (
                    c.table, c.key) == (tree.table, (key,))), None)
                if row is not None:
                    self.notes.advance_row(tree.table, (key,), {**row, **values})

    def _anchor_key(self, table: str, name: str) -> Value:
        """The key by which the anchor knows a row, or will."""
        known = of_anchor(name)
        return known if known is not None else self.done.keys.get((table, name))

    def moved_along(self) -> None:
        """Rows that went along with one above them in a tree: so does what is known of them."""
        by_key = {(s.table, s.target_key): s for s in self.rows.states.values()} if self.done.moved else {}
        for name, key in self.done.moved:
            tree, state = self.rows.profile.tree_of(name), by_key.get((name, key))
            columns = self.rows.profile.placed_in(name)
            change = self.changed[name, key]
            if self.toward is Side.LIVE:
                known, row = of_anchor(self.real_keys.name(name, key[0])), change.after
            else:  # live moved it, staging follows
                known = of_anchor(state.name[0]) if state is not None else None
                row = state.source_raw if state is not None else None
            base = self.anchor.base_row(name, (known,)) if known is not None else None
            if not columns or base is None or row is None or known is None:
                continue
            alike = self.toward is Side.LIVE and change.before == base
            self.notes.owned_by(name, *key)
            home = self.toward is Side.LIVE and change.before is not None
            places = {c: _along(base.get(c), change.before.get(c), row.get(c))
                      if home and tree is not None and c in tree.placed and change.before else row.get(c)
                      for c in columns}
            self.notes.advance_row(name, (known,), {**base, **places})
            self.notes.set_digest(self.toward, name, key, self._digest(name, row) if alike else ALWAYS_LOOK)

    def _paired(self, state: RowState, target_key: Key, over: list[Field]) -> None:
        """Both sides have the row: remember which is which, and as what. over: what was decided or blended in it."""
        table = self.tables[state.table]
        keys = self._keys(state, target_key)
        real = keys[Side.LIVE]
        left = self._left(state, target_key)
        row = left if self.toward is Side.LIVE else state.source_raw
        assert real is not None
        if row is None:
            return
        row = dict(row)
        for f in over:  # the ancestor of what differs is what the source has: from there the target has moved on
            if (f.merged.decided is Role.TARGET or f.standing is Standing.BLENDED) and not f.merged.path:
                written = self._source_row(state, {f.column: (state.source or {}).get(f.column)})
                row.update(written or {})
        name: Key = real
        if table.surrogate:
            known = of_anchor(state.name[0])
            name = real if known is None else (known,)
            for side, key in keys.items():
                if key is not None and key != name:
                    self.notes.pair(side, state.table, key[0], str(name[0]))
        self.notes.advance_row(state.table, name, row)
        tree = self.rows.profile.tree_of(state.table)
        if tree is not None:
            self._steps(state, tree, target_key)
        self._names(state, keys)
        self._digests(state, target_key, ALWAYS_LOOK if over else self._digest(state.table, left), True)

    def _left(self, state: RowState, key: Key) -> Row | None:
        """The target's row as the operation left it, but for what live changed between the comparison and the commit:
        that is live's own, and shows next time."""
        changed = self.changed.get((state.table, key))
        if changed is None or changed.after is None or state.target_raw is None:
            return state.target_raw if changed is None else changed.after
        written = self.done.written.get((state.table, key), ())
        return {c: changed.after.get(c) if c in written else v for c, v in state.target_raw.items()}

    def _places(self, state: RowState, tree: RowTree, real: Row, over: list[Field]) -> Row:
        """The ancestor's columns that follow from a place in a tree. What was taken is as live has it now, and what
        both sides changed, as staging has it there; the rest goes along."""
        change = self.changed.get((state.table, state.target_key or ()))
        known = {c: v for c, v in (self._source_row(state, state.base or {}) or {}).items() if c in tree.columns}
        by_column = {f.column: f for f in over}
        places: Row = {}
        for column in tree.columns:
            f = by_column.get(column)
            if column not in tree.placed:
                places[column] = real.get(column)
            elif f is None:
                before = (change.before or {}).get(column) if change is not None else None
                places[column] = _along(known.get(column), before, real.get(column))
            else:
                left, theirs = refs.begun(f.merged.result), refs.begun(f.merged.source)
                value = str(real.get(column))
                if left is not None and theirs is not None and column != tree.path and value.endswith(left.rest):
                    value = value[:len(value) - len(left.rest)] + theirs.rest
                places[column] = value
        return places

    def _steps(self, state: RowState, tree: RowTree, target_key: Key) -> None:
        """Remember which step of staging's in a tree is which of live's, where it was given out anew."""
        left = self._left(state, target_key) or (self.changed[state.table, target_key].after if (
            state.table, target_key) in self.changed else None)
        theirs = state.source_raw
        staging_key = self._keys(state, target_key)[Side.STAGING]
        if not tree.step or left is None or theirs is None or staging_key is None:
            return
        live, staging = (str(row.get(tree.path))[-tree.step:] for row in (
            (left, theirs) if self.toward is Side.LIVE else (theirs, left)))
        if live != staging:
            self.notes.pair(Side.STAGING, steps_of(state.table), staging_key[0], f"{staging}={live}")

    def _numbers(self, state: RowState) -> None:
        """Remember which parts of a setting have other numbers on the other side."""
        settings = self.rows.profile.settings
        if settings is not None and state.table == settings.table:
            name = str((state.source or {}).get(settings.name))
            for staging, live in self.rows.names.numbers.get(name, {}).items():
                self.notes.pair(Side.STAGING, numbers_of(name), staging, str(live))

    def _names(self, state: RowState, keys: dict[Side, Key | None]) -> None:
        """Remember what a row is called on the two sides, where that is not the same."""
        mine = self.rows.target_keys if self.toward is Side.STAGING else self.rows.source_keys  # staging's own
        theirs = self.rows.source_keys if self.toward is Side.STAGING else self.rows.target_keys
        for column in {a.column for a in self.rows.profile.slugs if a.table == state.table}:
            pair = next((both for known, side in ((mine, Side.STAGING), (theirs, Side.LIVE)) if (key := keys[side])
                          and (both := known.called(state.table, column, key[0]))), None)
            if pair is None:
                continue
            place = names_of(state.table, column)
            for side, side_key in ((s, k) for s, k in keys.items() if k is not None):
                self.notes.pair(side, place, side_key[0], packed(*pair))
            for known, side in ((mine, Side.STAGING), (theirs, Side.LIVE)):  # its namesake, too
                for other in known.namesakes(state.table, column, pair):
                    self.notes.pair(side, place, other, packed(*pair[::-1]))

    def _digest(self, name: str, row: Row | None) -> bytes:
        """The digest of a row, as the target's database would give it."""
        if row is None:
            return ALWAYS_LOOK
        if name not in self._forms:
            columns = self.anchor.columns(self.toward, self.tables[name])
            self._forms[name] = columns, row_form(self.tables[name], columns)
        columns, form = self._forms[name]
        return form.digest(form.write([row.get(c) for c in columns]))

    def _digests(self, state: RowState, target_key: Key, target: bytes, whole: bool) -> None:
        assert state.source_key is not None
        self.notes.set_digest(self.toward, state.table, target_key, target)
        if self.rows.source not in state.moved:
            return  # the source's row is as the anchor knows it
        self.notes.set_digest(self.toward.other, state.table, state.source_key,
                               state.source_digest if whole and state.source_digest else ALWAYS_LOOK)

    def _updated(self, state: RowState, over: list[Field], whole: bool) -> None:
        assert state.target_key is not None and state.source_key is not None and state.source is not None
        table = self.tables[state.table]
        apart = [f for f in over if f.merged.decided is Role.TARGET or f.standing is Standing.BLENDED]
        if state.base is None:
            if whole:
                self._paired(state, state.target_key, apart)
            return
        form = dict(state.base)
        for f in over:
            value = f.merged.source
            old = form.get(f.column)
            if isinstance(old, StructuredValue) and (f.merged.path or isinstance(value, dict | list | StructuredValue)):
                inner = value.data if isinstance(value, StructuredValue) else value
                form[f.column] = StructuredValue(structures.put(old.data, f.merged.path, inner, ABSENT), old.style)
            elif not f.merged.path:
                form[f.column] = state.source.get(f.column)
        base = self._source_row(state, form)
        if whole and self.toward is Side.STAGING and state.source_raw is not None:
            base = dict(state.source_raw)  # live's own row, to the letter: it counts as unmoved from now on
        if base is None:
            return  # rests on something that did not travel; it is compared again next time
        tree = self.rows.profile.tree_of(state.table)
        if tree is not None and any(f.column in tree.placed for f in over):
            real = (self._left(state, state.target_key) if self.toward is Side.LIVE else state.source_raw) or {}
            base.update(self._places(state, tree, real, over))
            self._steps(state, tree, state.target_key)
        key = base_key(table, state.name, self.rows.base_translator)
        assert key is not None
        self.notes.advance_row(state.table, key, base)
        self._numbers(state)
        if table.surrogate:
            for side, side_key in self._keys(state, state.target_key).items():
                if side_key is not None and side_key != key:
                    self.notes.pair(side, state.table, side_key[0], str(key[0]))
        # The target counts as unmoved where it is as the ancestor in every column. Staging has columns of its own, so
        # there it is enough that nothing is left between them.
        if self.toward is Side.LIVE:
            target = self._digest(state.table, base)
        else:
            alike = whole and not apart
            target = self._digest(state.table, self._left(state, state.target_key)) if alike else ALWAYS_LOOK
        self._digests(state, state.target_key, target, whole)
