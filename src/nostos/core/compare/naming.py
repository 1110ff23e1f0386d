"""What people call things. An item that nothing names has a title of what it belongs to: "of *The old mill*".

Where no profile says which column is a title, it is measured: which one holds words, and other words in each row. What
an item belongs to is what its columns point at: first what came or changed along with it.
"""

from __future__ import annotations

from collections.abc import Collection, Iterable, Iterator, Mapping, Sequence
from dataclasses import replace
from functools import lru_cache

from nostos.core.anchor.names import RowName, Side
from nostos.core.compare.gather import readable, refs_to
from nostos.core.compare.items import Comparison, Item
from nostos.core.compare.portable import Portable, Unresolved, plain
from nostos.core.compare.row_states import RowState, side_key
from nostos.core.database.protocol import Database
from nostos.core.database.schema import Row, Table, Value
from nostos.core.expressions import expression
from nostos.core.records import dataclass
from nostos.core.values.words import words

_LEVELS = 4  # of what belongs to what belongs to what has a name
_SAMPLE = 200  # rows of a table that are looked at for its title
_FEW = 40  # of them, below which more are fetched
_LONGEST = 160  # letters of what is still a title
_MOST = 5_000  # items that are named: nobody reads more
# Written for programs: addresses, paths, dotted names, hashes, moments, structures, markup.
_CODE = expression(r"://|@[\w-]+\.|^[\w.-]*[/\\]|^\w+(?:\.\w+)+$|^[0-9a-fA-F-]{8,}$|^\d{4}-\d\d-\d\d|^[\[{]|^\w:\d+[:;]"
                   r"|^<|^\S{40,}$|^\W*$")
_WORD = expression(r"[^\W\d_]{2}")


@dataclass(frozen=True)
class _Label:
    """What a row says of itself. whole: enough to know it by; else it only says what kind of thing it is."""

    text: str
    whole: bool


_NOTHING = _Label("", False)


def name_items(comparison: Comparison, target_db: Database, source_db: Database) -> None:
    """Give a title, and what it is part of, to each item that has none, but for what the target alone has gained: there
    may be very many, and they are counted, not read. And say which new ones are nothing without another. Reads both
    databases."""
    wanted = [i for i in comparison.items.values() if not i.gained and i.root is not None and not i.schema]
    naming = _Naming(comparison, {comparison.rows.target: target_db, comparison.rows.source: source_db})
    folders = {f"{o.folder}/" for o in comparison.rows.profile.files if o.folder}
    for item in comparison.items.values() if folders else ():
        if item.kind == "file" and item.files and item.files[0].path.startswith(tuple(folders)):
            comparison.items[item.id] = replace(item, title="no row names it")
    naming.name(wanted[:_MOST])
    naming.tie(wanted)


class _Naming:
    def __init__(self, comparison: Comparison, databases: Mapping[Side, Database]) -> None:
        self.comparison = comparison
        self.rows = comparison.rows
        self.databases = databases
        self.tables = self.rows.every_table
        framework = self.rows.profile.framework
        self.accounts = {k.table for k in self.rows.profile.kinds if k.account}
        # Nothing is called after who made it, or after what it is one of.
        self.nobodys = self.accounts | ({framework.types} if framework is not None else set())
        self.labels: dict[RowName, _Label] = {}
        self.above: dict[RowName, tuple[RowName, ...]] = {}  # what a row may belong to, the likeliest first
        self.columns: dict[str, tuple[str, bool]] = {}
        self.samples: dict[str, list[Row]] = {}
        self._named: frozenset[str] | None = None

    def name(self, items: Sequence[Item]) -> None:
        """Give every item that has no name of its own a title from its rows, or from what it is part of."""
        for state in (r for i in items for r in i.rows):
            self.samples.setdefault(state.table, []).append(_raw(state))
        untitled = [i for i in items if not i.title]
        for state in (r for i in untitled for r in i.rows):
            self.labels[state.id] = self._words(state.table, _raw(state))
        self._ask_parts([i for i in untitled if not self._own(i).whole])
        nameless = [i for i in untitled if not self._own(i).whole]
        for state in (r for i in nameless for r in i.rows):
            self.above[state.id] = tuple(self._candidates(state.table, state.version()))
        self._look_up(nameless)
        for item in untitled:
            label = self._own(item)
            if label.whole:
                self.comparison.items[item.id] = replace(item, title=label.text)
        for item in nameless:
            label, (over, called) = self._own(item), self._owner(item)
            title = " ".join(p for p in (self._kind(item), label.text, f"of {called}") if p) if called else label.text
            self.comparison.items[item.id] = replace(item, title=readable(title),
                                                     part_of=over if over != item.id else "")

    def tie(self, items: Iterable[Item]) -> None:
        """Say of new items that have no name, and of which no profile says what they are, what they go with; and of
        those of which one says that they go with something."""
        new = {s.id for i in items for s in i.rows if s.base is None and s.target is None and s.source is not None}
        for item in items:
            root = next((r for r in item.rows if r.id == item.root and r.source is not None), None)
            if root is None:
                continue
            row = _raw(root)
            kind = self.rows.profile.kind_of(root.table, row)
            bound = kind is not None and kind.bound
            if not bound and root.id not in new:
                continue
            tied = bound or (kind is not None and kind.tied)
            if tied or ((kind is None or kind.natural) and not self._is_named(root.table, row)):
                over = self._bound_to(item) if bound else self._belongs_to(root, new, tied)
                owner = self.comparison.items.get(over)
                if owner is not None and over != item.id and not owner.gained and owner.visitors >= item.visitors:
                    self.comparison.items[item.id] = replace(self.comparison.items[item.id], goes_with=over)

    def _bound_to(self, item: Item) -> str:
        """The one item that a type beside a number, in any of its rows, says that it belongs to."""
        goals = {over for state in item.rows for r in self.rows.profile.references_of(state.table) if r.where
                 and (ref := refs_to(state.version().get(r.column))) is not None and ref[0] == r.to
                 and (over := self.comparison.owner.get((ref[0], (ref[1],)), "")) not in ("", item.id)}
        return goals.pop() if len(goals) == 1 else ""

    def _is_named(self, table: str, row: Row) -> bool:
        """Whether the rows of a table have names: one goes by its name, whatever it hangs on."""
        self._measured(table, row)
        return self.columns[table][1] or any(
            len(unique) == 1 and isinstance(row.get(unique[0]), str) for unique in self.rows.table(table).uniques)

    def _belongs_to(self, state: RowState, new: Collection[RowName], said: bool = False) -> str:
        """The item that a row belongs to: what a number beside a type means, else the one thing that it points at, or
        the one of these that is as new as it is. What was only learned may not be all that there is to know, but where
        a profile has `said` that it belongs to something."""
        form = state.version()
        references = self.rows.profile.references_of(state.table)
        if not said and any(r.learned for r in references):
            return ""
        typed, mine = {r.column for r in references if r.where}, self.comparison.owner.get(state.id)
        goals = {(ref[0], (ref[1],)): column in typed for column, value in form.items()
                 if (ref := refs_to(value)) is not None and ref[0] not in self.nobodys
                 and self.comparison.owner.get((ref[0], (ref[1],)), "") != mine
                 and not self.rows.profile.is_weak(state.table, column)}
        among = [n for n, beside in goals.items() if beside] or list(goals)
        among = among if len(among) == 1 else [n for n in among if n in new]
        return self.comparison.owner.get(among[0], "") if len(among) == 1 and among[0][0] != state.table else ""

    def _own(self, item: Item) -> _Label:
        """What the row of an item says, or else one of its parts."""
        assert item.root is not None
        label = self.labels.get(item.root, _NOTHING)
        if label.whole:
            return label
        return next((s for r in item.rows if (s := self.labels.get(r.id, _NOTHING)).whole), label)

    def _ask_parts(self, items: Sequence[Item]) -> None:
        """The names that are kept in parts of items that did not change themselves, as a page's in a language."""
        by_key: dict[str, dict[Value, RowName]] = {}
        for item in items:
            root = next((r for r in item.rows if r.id == item.root), None)
            if root is not None and root.source_key is not None and len(root.source_key) == 1:
                by_key.setdefault(root.table, {})[root.source_key[0]] = root.id
        for child in self.rows.profile.children:
            table, owners = self.rows.source_tables.get(child.table), by_key.get(child.owner, {})
            if table is None or not owners or child.where:
                continue
            for row in self.databases[self.rows.source].find_any(table, child.of, list(owners), {}):
                owner = owners.get(row.get(child.of))
                text = self._words(child.table, row) if owner is not None else _NOTHING
                if owner is not None and text.whole and not self.labels[owner].whole:
                    self.labels[owner] = text

    def _kind(self, item: Item) -> str:
        assert item.root is not None
        kind = next((k for k in self.rows.profile.kinds if k.table == item.root[0] and not k.natural), None)
        return item.kind.replace("-", " ") if kind is not None else plain_name(item.root[0], self.tables)

    def _owner(self, item: Item) -> tuple[str, str]:
        """The item, if it is one, that this one belongs to, and the nearest name above it."""
        assert item.root is not None
        over = ""
        row, seen = item.root, {item.root}
        for _ in range(_LEVELS):
            onward = next((a for a in self.above.get(row, ()) if a not in seen), None)
            if onward is None:
                return over, ""
            name = self.comparison.owner.get(onward, "")
            owner = self.comparison.items.get(name)
            over = over or (name if owner is not None and not owner.gained else "")
            called = owner.title if owner is not None and owner.title else ""
            label = self._own(owner) if owner is not None else self.labels.get(onward, _NOTHING)
            if called or label.whole:
                return over, called or label.text
            row = owner.root if owner is not None and owner.root is not None and owner.root not in seen else onward
            seen |= {onward, row}
        return over, ""

    def _look_up(self, items: Iterable[Item]) -> None:
        """Fetch what items belong to, where it is not among what changed, level by level."""
        wanted = {a for i in items for r in i.rows for a in self.above.get(r.id, ())[:1]}
        for _ in range(_LEVELS):
            missing: dict[str, list[RowName]] = {}
            for name in wanted - self.labels.keys():
                missing.setdefault(name[0], []).append(name)
            met = {name for name in wanted if name in self.labels}
            for table, names in missing.items():
                met |= self._fetch(table, names)
            wanted = {a for name in met if not self.labels[name].whole for a in self.above.get(name, ())[:1]} - met
            if not wanted:
                return

    def _fetch(self, name: str, wanted: Sequence[RowName]) -> set[RowName]:
        side = self.rows.source
        table = self.rows.source_tables.get(name)
        if table is None or not table.key:
            return set()
        translator = self.rows.to_portable[side].on(self.databases[side])
        keys = {k: row_name for row_name in wanted if (k := side_key(table, row_name[1], translator)) is not None}
        fetched = {keys[table.key_of(row)]: row for row in self.databases[side].fetch_many(table, list(keys))
                   if table.key_of(row) in keys}
        self.samples.setdefault(name, []).extend(fetched.values())
        self.columns.pop(name, None)
        for row_name, row in fetched.items():
            self.labels[row_name] = self._words(name, row)
            if not self.labels[row_name].whole:
                try:
                    form = {c: translator.value(name, row, c) for c in table.stored}
                except Unresolved:
                    continue
                self.above[row_name] = tuple(self._candidates(name, form))
        return set(fetched)

    def _candidates(self, table: str, form: Portable) -> Iterator[RowName]:
        """What a row points at as a whole: what is in this comparison first; never an account, nor one of its own kind
        where there is anything else."""
        named: list[RowName] = []
        for column, value in form.items():
            ref = refs_to(value)
            if ref is not None and ref[0] not in self.nobodys and not self.rows.profile.is_weak(table, column):
                named.append((ref[0], (ref[1],)))
        yield from sorted(dict.fromkeys(named), key=lambda n: (n[0] == table, n not in self.comparison.owner))

    def _words(self, table: str, row: Row) -> _Label:
        kind = self.rows.profile.kind_of(table, row)
        if kind is not None and kind.title and not kind.natural:
            text = readable(str(row.get(kind.title) or ""))
            return _Label(text, bool(text))
        if kind is not None and not kind.natural and kind.label and not {*kind.label} & {*self.rows.table(table).key}:
            label = readable(" ".join(str(row.get(c)) for c in kind.label))
            if label.isdigit():
                return _Label(f"{kind.named(row).replace('-', ' ')} {label}", True)
            if _WORD.search(label) and not _CODE.search(label):
                return _Label(label, True)
            return replace(self._measured(table, row), whole=False)
        return self._measured(table, row)

    def _measured(self, table: str, row: Row) -> _Label:
        """What the column says that names rows best."""
        if table not in self.columns:
            self.columns[table] = _title_column(self.rows.table(table), self._some(table, row), self._people())
        column, whole = self.columns[table]
        value = row.get(column)
        text = readable(value) if isinstance(value, str) and not _CODE.search(value) else ""
        return _Label(text, whole and bool(text))

    def _some(self, name: str, row: Row) -> list[Row]:
        """Rows of a table: those that changed, and some more where these are few."""
        known = self.samples.setdefault(name, [row])[:_SAMPLE]
        table = self.rows.source_tables.get(name)
        if len(known) < _FEW and table is not None and table.key:
            keys = {table.key_of(r) for r in known if all(k in r for k in table.key)}
            known += [r for r in self.databases[self.rows.source].sample(table, _FEW) if table.key_of(r) not in keys]
        return known

    def _people(self) -> frozenset[str]:
        """What accounts are called: a column that repeats it says who wrote a row, not what the row is called."""
        if self._named is None:
            tables = (t for n in sorted(self.accounts) if (t := self.rows.source_tables.get(n)) is not None and t.key)
            self._named = frozenset(v for t in tables for row in self.databases[self.rows.source].sample(t, _SAMPLE)
                                    for v in row.values() if isinstance(v, str) and v)
        return self._named


@lru_cache(maxsize=4096)
def plain_name(table: str, tables: frozenset[str]) -> str:
    """What the rows of a table are called, as far as its name says it: without what only tells whose tables they are,
    as `shop_` does of `shop_order_notes`. tables: the names of all."""
    first, _, rest = table.partition("_")
    if rest and first not in tables and sum(t.startswith(f"{first}_") for t in tables) > 1:
        return " ".join(words(rest))
    return " ".join(words(table)) or table


def _raw(state: RowState) -> Row:
    return state.source_raw or state.target_raw or plain(state.version())


def _title_column(table: Table, sample: Sequence[Row], people: frozenset[str]) -> tuple[str, bool]:
    """The column that names rows best, and whether it names each: a word that many share says only what a row is.
    people: what accounts are called."""
    best, most, whole = "", 0.0, False
    for column in table.stored:
        texts = [v for row in sample if isinstance(v := row.get(column), str) and v.strip()]
        good = [t for t in texts if len(t) <= _LONGEST and _WORD.search(t) and not _CODE.search(t)]
        if not good or len(good) < 0.8 * len(texts) or len(texts) < 0.5 * len(sample):
            continue
        if sum(t in people for t in good) > 0.5 * len(good):
            continue
        spaced = sum(" " in t.strip() or t[:1].isupper() for t in good) / len(good)
        distinct = len(set(good)) / len(good)
        weight = spaced + distinct
        if weight > most:
            best, most, whole = column, weight, distinct > 0.5 and spaced > 0.3
    return best, whole
