"""What a person would name, with what changed in it: the result of a comparison."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import replace
from enum import StrEnum
from typing import Any, overload

from nostos.core.anchor.names import RowName, Side
from nostos.core.compare.field_merge import FieldMerge, Standing
from nostos.core.compare.file_changes import FileState
from nostos.core.compare.row_states import Rows, RowState
from nostos.core.database.schema import Value
from nostos.core.learning.sources import Sources
from nostos.core.records import dataclass

TRAVELS = frozenset({Standing.HOMEWARD, Standing.BLENDED})


@dataclass(frozen=True, slots=True)
class Field:
    """One part of an item that is not the same everywhere, by a name for people. row, column: where it is kept."""

    name: str
    merged: FieldMerge
    row: RowName | None = None
    column: str = ""

    @property
    def standing(self) -> Standing:
        """How the field stands: that of its merged value."""
        return self.merged.standing


Work = Callable[[Sequence[RowState], RowState], tuple[Field, ...]]


class Gained(Sequence[Field]):
    """The fields of what live alone has gained: they are worked out when somebody looks at them. work: how, from the
    item's rows and the row that it is."""

    __slots__ = ("_found", "_root", "_states", "_work")

    def __init__(self, work: Work, states: Sequence[RowState], root: RowState) -> None:
        self._work, self._states, self._root = work, states, root
        self._found: tuple[Field, ...] | None = None

    def _fields(self) -> tuple[Field, ...]:
        if self._found is None:
            self._found = self._work(self._states, self._root)
        return self._found

    def __len__(self) -> int:
        return len(self._fields())

    @overload
    def __getitem__(self, at: int) -> Field: ...
    @overload
    def __getitem__(self, at: slice) -> Sequence[Field]: ...
    def __getitem__(self, at: int | slice) -> Field | Sequence[Field]:
        return self._fields()[at]


class SchemaAction(StrEnum):
    ADD = "add"
    DROP = "drop"
    CHANGE = "change"


@dataclass(frozen=True)
class SchemaStep:
    """Something that one side changed in its schema: a table, a column of a table, an index or a
    constraint.

    ddl: its definition, in words of the engine's. before: what it was. filled: of a column that may not be empty and
    has no default, what all rows that were there have got in it. calls: the code that it would run, by name.
    """

    what: str  # "table", "column", "index" or "constraint"
    table: str
    name: str
    side: Side
    ddl: str
    action: SchemaAction = SchemaAction.ADD
    before: str = ""
    filled: Value = None
    calls: tuple[str, ...] = ()


@dataclass(frozen=True, slots=True)
class Item:
    """One thing that a person would name, and how it stands.

    id: `kind/name`. change: "new", "edited" or "removed", by the side that changed it (staging's word first).
    reason: why it clashes as a whole, if it does.
    """

    id: str
    kind: str
    title: str
    change: str
    standing: Standing
    fields: Sequence[Field]
    rows: tuple[RowState, ...] = ()
    files: tuple[FileState, ...] = ()
    schema: tuple[SchemaStep, ...] = ()
    visitors: bool = False
    folder: str = ""  # the path of a folder item, which is switched as a whole
    reason: str = ""
    root: RowName | None = None
    careful: bool = False  # it drops, narrows, runs code, is an account or opens: it goes only when it is named
    opens: bool = False  # it would take away what keeps others from seeing or doing something
    part_of: str = ""  # the item that it is shown under, for it has no name of its own
    goes_with: str = ""  # the item without which it is nothing: it goes home with that one, and stays with it

    @property
    def gained(self) -> bool:
        """Whether live alone has it, and nothing of it is anything else."""
        return isinstance(self.fields, Gained)

    @property
    def going(self) -> tuple[Field, ...]:
        """The fields that go home when it is taken. A time of change does not travel without the change."""
        if self.reason or self.gained:
            return ()
        going = tuple(f for f in self.fields if f.standing in TRAVELS)
        return () if all(f.merged.policy.quiet for f in going) else going

    @property
    def goes_home(self) -> bool:
        """Whether something of it can go home."""
        return bool(self.going)


@dataclass
class Comparison:
    """Everything that is not the same on live and in staging, as items, with the rows that they are made of. questions:
    what has to be answered before items that stand open can go home (see plan/unknown)."""

    items: dict[str, Item]
    rows: Rows
    owner: dict[RowName, str]  # which item a row belongs to
    files: dict[str, str]  # which item a file belongs to
    questions: tuple[Any, ...] = ()
    programs: tuple[str, ...] = ()  # views, triggers and routines that the source alone has, in words
    sources: Sources | None = None  # which layer said what
    exported: tuple[str, ...] = ()  # settings of which the source's files and its database say two things


def with_standing(item: Item, standing: Standing, reason: str) -> Item:
    """The item, found to be a clash for a reason that its own fields do not show."""
    return replace(item, standing=standing, reason=reason)
