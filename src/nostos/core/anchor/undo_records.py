"""Taking back what an operation changed in the anchor."""

from __future__ import annotations

from collections.abc import Iterable
from typing import Any

from nostos.core.anchor.names import Side
from nostos.core.anchor.records import _ASIDE, _OF_TABLES, _PLACES
from nostos.core.anchor.rows import ALWAYS_LOOK, AnchorRows
from nostos.core.values.packed import pack, unpack


class UndoRecords(AnchorRows):
    """What operations changed, by whose it is, so that it can be taken back."""

    def revert(self, operation: str, owners: Iterable[tuple[Any, ...]]) -> None:
        """Set what an operation changed back to what it was, for these owners. What was changed since is looked at
        from now on instead."""
        self._remember_tables(operation)
        names = {pack(list(o)).hex() for o in owners}
        entries = self._file.execute("SELECT owner, what, place, old, new FROM undo WHERE operation=? "
                                     "ORDER BY rowid DESC", (operation,)).fetchall()
        touched: set[tuple[Side, str, int]] = set()
        for owner, what, packed, old, new in entries:
            if owner not in names:
                continue
            place = unpack(packed)
            now = self._now(what, place)
            if now == old:
                continue  # done already, by a run that was cut short
            unmoved = now == new
            if unmoved:
                self.owned_by(*unpack(bytes.fromhex(owner)))
                self._remember(what, place, old)
                _, write, clear = _PLACES[what]
                if old is None:
                    self._file.execute(clear, place)
                else:
                    self._file.execute(write, [*place, unpack(old)[0]])
            if what == "apart":
                if not unmoved:
                    self._file.execute(_PLACES[what][1], [*place, ALWAYS_LOOK])
                touched.add((Side(place[0]), place[1], place[2]))
        for side, table, number in touched:
            self._add_up(side, table, number)

    def forget_operation(self, operation: str) -> None:
        """Forget what an operation changed here: it will not be taken back any more."""
        self._file.execute("DELETE FROM undo WHERE operation=?", (operation,))
        for table, column in _OF_TABLES:
            self._file.execute(f"DELETE FROM {table} WHERE {column} LIKE ?", (f"%{_ASIDE}{operation}",))
