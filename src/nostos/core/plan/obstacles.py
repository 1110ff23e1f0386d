"""What stands in the way of an item."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping, Sequence
from dataclasses import replace
from typing import Any

from nostos.core.anchor.names import RowName
from nostos.core.compare.items import Comparison, Item
from nostos.core.compare.portable import Unresolved, named_rows
from nostos.core.compare.row_states import RowState
from nostos.core.database.protocol import Database
from nostos.core.database.schema import Row, Table, Value
from nostos.core.plan.referrers import Referrers
from nostos.core.plan.row_writes import RowWrite, WriteAction, row_writes
from nostos.core.profiles.conditions import holds
from nostos.core.records import dataclass
from nostos.core.values.merging import same


@dataclass(frozen=True)
class Need:
    """`item` cannot stand without `on`, because of `reason`. part: `on` is a part of it, which may be left by name."""

    item: str
    on: str
    reason: str
    part: bool = False


class Obstacle(Exception):
    """Why an item cannot go home."""


class Obstacles(Referrers):
    """What stands in the way: values that must not repeat, what refers to a removal, a file that is in use."""

    def _unique(self, item: Item, write: RowWrite, removed: set[Any]) -> Iterator[Need]:
        """Rows of live's that have the very values that must not repeat: needed to make room, if they do in staging."""
        table = self.rows.target_tables.get(write.state.table)
        if table is None:
            return
        tree = self.rows.profile.tree_of(table.name)
        anew = {tree.path} if tree is not None and tree.step else set()
        keys = () if table.surrogate or write.action is WriteAction.UPDATE else (table.key,)
        system = [(c,) for t, c in self.rows.profile.uniques if t == table.name]
        for columns in (*table.uniques, *keys, *system):
            if not set(columns) & set(write.values) or set(columns) & anew:
                continue
            values = self._wanted(columns, write)
            if values is None or (columns in system and "" in values.values()):
                continue
            for row in self._takers(table, columns).get(tuple(values.values()), ()):
                name = self._named(table, row)
                if table.key_of(row) == write.state.target_key or name in removed:
                    continue
                other = self.comparison.owner.get(name, f"{table.name} {','.join(map(str, name[1]))}")
                if name in self.comparison.owner and self._makes_room(name, columns):
                    if other != item.id:
                        yield Need(item.id, other, f"it makes room for the same {', '.join(columns)}")
                    continue
                text = ", ".join(f"{c} {v!r}" for c, v in values.items())
                raise Obstacle(f"{self.rows.target} already has {other} with the same {text}")

    def _wanted(self, columns: Sequence[str], write: RowWrite) -> Row | None:
        """What a row is to have in these columns; None where that cannot be alike with anything on live."""
        form = write.state.target or write.state.source or {}
        try:
            values = {c: self.writer.value(write.values.get(c, form.get(c))) for c in columns}
        except Unresolved:
            return None  # rests on a row that is new itself
        return None if any(v is None for v in values.values()) else values

    def _takers(self, table: Table, columns: tuple[str, ...]) -> dict[tuple[Value, ...], list[Row]]:
        """Live's rows by what they have in these columns, of those that anything is to be written alike: looked for in
        one pass."""
        takers = self._taken.get((table.name, columns))
        if takers is None:
            takers = self._taken[table.name, columns] = {}
            wanted = {tuple(v.values()) for i in self.comparison.items.values() if i.goes_home
                      for w in row_writes(self.rows, i) if w.state.table == table.name
                      and w.action is not WriteAction.REMOVE and set(columns) & set(w.values)
                      and (v := self._wanted(columns, w)) is not None}
            rows: Iterable[Row] = self.target_db.fetch_many(table, sorted(wanted, key=repr)) if columns == table.key \
                else self.target_db.find_any(table, columns[0], sorted({w[0] for w in wanted}, key=repr), {})
            for row in rows:
                values = tuple(row[c] for c in columns)
                if values in wanted:
                    takers.setdefault(values, []).append(row)
        return takers

    def _makes_room(self, name: RowName, columns: Sequence[str]) -> bool:
        """Whether staging gave a row other values, or removed it, and live left it as it was."""
        state = self.rows.states.get(name)
        if state is None or state.base is None or state.target is None:
            return False
        return state.source is None or any(
            same(state.base.get(c), state.target.get(c)) and not same(state.base.get(c), state.source.get(c))
            for c in columns)

    def _removal(self, item: Item, state: RowState, together: set[Any]) -> Iterator[Need]:
        assert state.target_key is not None
        for row_name in self._referrers(state):
            if row_name in together:
                continue
            other = self.rows.states.get(row_name)
            owner = self.comparison.owner.get(row_name)
            called = owner or self.called(row_name)
            target = (state.table, str(state.name[0]))
            if other is None and self.rows.keep_keys:
                raise Obstacle(f"{self.rows.target} has built on it since: {called}")
            if other is None or owner is None or (other.source and _points(other.source, target)):
                raise Obstacle(f"removed {self.rows.source.where}, but {called} {self.rows.target.where} still "
                               "refers to it")
            if other.base is None or (other.target and not _points(other.base, target) and state.name[0] is not None
                                      and self.rows.table(state.table).surrogate):
                raise Obstacle(f"removed {self.rows.source.where}, but {self.rows.target} has built on it since: "
                               f"{owner}")
            if owner != item.id:
                yield Need(item.id, owner, "it refers to what is removed")

    def in_the_way(self) -> str | None:
        """Why one of the removals cannot be made; None: nothing is in their way."""
        for item in self.items:
            removed = {w.state.id for w in row_writes(self.rows, item) if w.action is WriteAction.REMOVE}
            try:
                for name in removed:
                    for _ in self._removal(item, self.removed[name], removed):
                        pass
            except Obstacle as obstacle:
                return f"{item.id}: {obstacle}"
        return None

    def _referrers(self, state: RowState) -> Iterator[RowName]:
        """The live rows that point at a row."""
        yield from self.referrers().get(state.id, ())

    def _file_in_use(self, item: Item, path: str) -> None:
        """A file must stay while a row that stays names it."""
        writes = row_writes(self.rows, item)
        for owned in self.rows.profile.files:
            table = self.rows.target_tables.get(owned.table)
            if table is None:
                continue
            lets_go = {w.state.id for w in writes if w.action is WriteAction.REMOVE or owned.column in w.values}
            for value in owned.values(path)[:1]:
                for row in self.target_db.find_any(table, owned.column, owned.held([value]), {}):
                    if owned.path_in(row) == value and holds(owned.where, row) and (
                            self._named(table, row) not in lets_go):
                        raise Obstacle(f"its file {path} was removed {self.rows.source.where}, but {self.rows.target} "
                                       "still shows it")


def referred_again(comparison: Comparison, items: Iterable[Item], target_db: Database) -> tuple[str, ...]:
    """After a merge: what live has that refers to something which the merge removed. It came in the very moment."""
    tables = target_db.tables()
    rows = replace(comparison.rows, target_tables={n: tables[n] for n in comparison.rows.target_tables if n in tables})
    finder = Obstacles(replace(comparison, rows=rows), target_db, tuple(items))
    gone = set(finder.removed)
    return tuple(sorted({finder.called(name) for rows in finder.referrers().values() for name in rows
                         if name not in gone}))


def _points(form: Mapping[str, Any], target: tuple[str, str]) -> bool:
    return any(target in named_rows(v) for v in form.values())
