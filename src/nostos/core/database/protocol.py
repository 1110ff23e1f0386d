"""The small protocol that every database engine answers."""

from __future__ import annotations

from abc import ABC, abstractmethod
from collections.abc import Collection, Iterable, Iterator, Mapping, Sequence
from contextlib import AbstractContextManager, contextmanager

from nostos.core.database.outline import Outline
from nostos.core.database.schema import Column, Key, Row, Table, Value
from nostos.core.errors import Disturbed, MergeRefused, NostosError, SiteError
from nostos.core.records import dataclass

AT_ONCE = 500  # rows, or keys, of one request


@dataclass(frozen=True)
class Block:
    """A block of rows as it is now: how many rows, and the sum of their digests."""

    count: int
    digest: int


@dataclass(frozen=True)
class EngineCaution:
    """Something about a database that matters before a clone: what, why, what to do. host: it is the host's job.
    obstacle: something will go wrong."""

    what: str
    why: str
    remedy: str
    host: bool = False
    obstacle: bool = False


class Draft(ABC):
    """Rows of a table as they are to be, in a table of this connection's alone: written before the rows themselves are
    held, so that all that holds them is one statement that looks at them and one that writes.

    rows: by key, the columns that are to be set, as the engine has them once they are written. first: what `look` gave
    when it was made.
    """

    rows: dict[Key, Row]
    first: Block

    @abstractmethod
    def look(self, hold: bool = False) -> Block:
        """The table's rows with these keys as they are at this moment: how many, and the sum of their digests over all
        that is stored. hold: nobody else changes them until the transaction ends; raises Disturbed where others hold
        one."""

    @abstractmethod
    def write(self) -> None:
        """Set the columns of the table's rows. Raises what the engine does where it refuses one."""


class InsideCopy(ABC):
    """Tables being copied inside a server, in the background, each as it is when its turn comes."""

    @abstractmethod
    def wait(self, table: str) -> dict[int, Block] | None:
        """Wait until a table is copied. Returns its blocks as they arrived; None: it could not be copied. Once only."""

    def fingerprints(self, table: str) -> dict[int, Block] | None:
        """The fingerprints of the blocks that `wait` returned; None: they are not known. Once only."""
        return None

    @abstractmethod
    def close(self) -> None:
        """End it, and let go what it holds."""


class ServerLock(ABC):
    """A lock in a site's server, held until it is closed, and what is written there of unfinished operations."""

    @abstractmethod
    def check(self) -> None:
        """Raise TargetMoved when the lock is not ours any more: another may have been here meanwhile."""

    @abstractmethod
    def write_mark(self, operation: str, text: str) -> None:
        """Write down that an operation is unfinished, for whoever comes."""

    @abstractmethod
    def remove_mark(self, operation: str) -> None:
        """Take back what `write_mark` wrote, and all that was made for it."""

    @abstractmethod
    def unfinished(self) -> list[str]:
        """What `write_mark` has written and nobody took back."""

    @abstractmethod
    def close(self) -> None:
        """End it, and let go what it holds."""


class Database(ABC):
    """One open database of a site. Values come and go raw: None, int, float, str, bytes, as the engine stores them."""

    url: str

    @abstractmethod
    def close(self) -> None:
        """End the connection; what was not committed is gone."""

    @abstractmethod
    def version(self) -> str:
        """Engine and version, for people."""

    @abstractmethod
    def tables(self) -> dict[str, Table]:
        """All tables by name, read afresh."""

    @abstractmethod
    def reading(self) -> AbstractContextManager[None]:
        """A transaction in which everything read is of one moment."""

    @abstractmethod
    def writing(self, unchecked: bool = False, late: bool = False) -> AbstractContextManager[None]:
        """A transaction that nobody else's writes can come between; rolled back if the body raises. unchecked: the
        caller checks declared foreign keys itself, where the engine lets it. late: what it finds is locked late, and is
        to be seen as it is then, each time (`locks_late`).

        Raises Disturbed when the lock cannot be had in time, or the database breaks the transaction off; MergeRefused
        for any other error of the database's.
        """

    @abstractmethod
    def count(self, table: str) -> int:
        """How many rows a table has."""

    def sample(self, table: Table, count: int) -> list[Row]:
        """Some rows: the first and the last by their key, without going through the table."""
        first, last = self.end(table, count // 2, False), self.end(table, count // 2, True) if table.key else []
        known = {table.key_of(row) for row in first}
        return [*first, *(row for row in reversed(last) if table.key_of(row) not in known)]

    def end(self, table: Table, count: int, last: bool) -> list[Row]:
        """The first rows by their key, or the last ones, the very last first."""
        rows = [dict(zip(table.stored, values, strict=True)) for values in self.scan(table, table.stored)]
        return rows[::-1][:count] if last else rows[:count]

    @abstractmethod
    def scan(self, table: Table, columns: Sequence[str]) -> Iterator[tuple[Value, ...]]:
        """Every row's values for these columns, streamed. A column that the table lacks reads as NULL."""

    @abstractmethod
    def scan_payloads(self, table: Table) -> Iterator[tuple[int, bytes]]:
        """Every row's block number, and its bytes over the stored columns in the table's form, streamed."""

    @abstractmethod
    def blocks(self, table: Table, columns: Sequence[str]) -> dict[int, Block]:
        """A digest per block of rows over these columns."""

    def adds_up(self, table: Table) -> bool:
        """Whether the engine itself adds the digests of a table's blocks up, and sooner than this program could while
        it reads the rows."""
        return False

    def blocks_of(self, wanted: Sequence[tuple[Table, Sequence[str]]]) -> list[dict[int, Block]]:
        """`blocks` of many tables."""
        return [self.blocks(table, columns) for table, columns in wanted]

    def has_fingerprints(self, table: Table) -> bool:
        """Whether blocks of a table can be told apart by fingerprints, sooner than by digests."""
        return False

    def fingerprints_of(self, wanted: Sequence[tuple[Table, Sequence[str]]], seed: int) -> list[dict[int, Block]]:
        """Of each table, count and fingerprint of every block of rows over these columns. A fingerprint is a hash of
        the engine's own, which it works out much faster than a digest; it tells whether a block is as it was in this
        database, and nothing else. seed: what the hash begins with, of 63 bits. An engine that has nothing quicker
        gives digests."""
        return self.blocks_of(wanted)

    _sums: dict[tuple[str, tuple[str, ...], int | None], dict[int, Block]] | None = None

    @contextmanager
    def keeping_sums(self) -> Iterator[None]:
        """While it lasts, which is to be within one moment that is read, `sums_of` adds nothing up twice."""
        self._sums = {}
        try:
            yield
        finally:
            self._sums = None

    def sums_of(self, wanted: Sequence[tuple[Table, Sequence[str]]], seed: int | None = None) -> list[dict[int, Block]]:
        """`blocks_of`, or `fingerprints_of` with a seed, from what was added up before where that is kept."""
        known = {} if self._sums is None else self._sums
        missing = [(t, c) for t, c in wanted if (t.name, tuple(c), seed) not in known]
        if missing:
            blocks = self.blocks_of(missing) if seed is None else self.fingerprints_of(missing, seed)
            known.update(((t.name, tuple(c), seed), made) for (t, c), made in zip(missing, blocks, strict=True))
        return [known[t.name, tuple(c), seed] for t, c in wanted]

    @abstractmethod
    def row_digests(self, table: Table, columns: Sequence[str],
                    numbers: Collection[int] | None = None) -> Iterator[tuple[Key, bytes]]:
        """Key and digest over these columns of every row, or of the rows of these blocks, streamed."""

    @abstractmethod
    def fetch_many(self, table: Table, keys: Sequence[Key]) -> Iterator[Row]:
        """The rows with these keys, in any order."""

    @abstractmethod
    def rows_where_set(self, table: Table, columns: Sequence[Column]) -> Iterator[Row]:
        """The rows in which one of these columns differs from its default."""

    @abstractmethod
    def fetch(self, table: Table, key: Key) -> Row | None:
        """The row with this key."""

    @abstractmethod
    def find(self, table: Table, values: Mapping[str, Value]) -> list[Row]:
        """The rows whose columns equal these values (NULL equals NULL)."""

    @abstractmethod
    def find_any(self, table: Table, column: str, values: Sequence[Value], where: Mapping[str, str]) -> Iterator[Row]:
        """The rows whose column is one of these values, as the engine compares them, in one pass; of those only where
        other columns hold these texts. It may give some rows more."""

    def beginning(self, table: Table, column: str, text: str) -> Iterator[Row]:
        """The rows whose column begins with this text, as it is written."""
        for values in self.scan(table, table.stored):
            row = dict(zip(table.stored, values, strict=True))
            if str(row[column] if row[column] is not None else "").startswith(text):
                yield row

    @abstractmethod
    def mentioning(self, table: Table, column: str, numbers: Collection[int], where: Mapping[str, str],
                   words: Collection[str] = ()) -> Iterator[Row]:
        """The rows whose column, as text, has one of these numbers in it with no digit beside it, in one pass. where:
        as in `find_any`. words: one of which must be in it, too; without numbers, these alone."""

    @abstractmethod
    def top(self, table: Table) -> int | None:
        """The highest key of a table with surrogate keys."""

    def counter(self, table: Table) -> int | None:
        """The highest key that a table has ever given out, where the engine keeps that whatever is removed; None where
        it counts on from the highest key that is there."""
        return None

    @abstractmethod
    def above(self, table: Table, key: int) -> Iterator[Row]:
        """The rows with a higher surrogate key than this."""

    @abstractmethod
    def side_effects(self, written: Mapping[str, Collection[str]]) -> set[str]:
        """The tables in which the database itself may change rows, by triggers, when rows of these tables are written.
        written: by table, what is done there: "INSERT", "UPDATE", "DELETE"."""

    def without_transactions(self) -> set[str]:
        """The tables whose rows stay written though the transaction in which they were is taken back."""
        return set()

    def triggered(self, written: Mapping[str, Collection[str]]) -> set[str]:
        """Of these tables, those whose rows the database itself changes further as they are written so: by triggers of
        theirs, or by columns that say when. written: as in `side_effects`."""
        return set()

    def explained(self, error: BaseException, at: str = "") -> NostosError | None:
        """What an error of the driver's, met while writing, means: Disturbed where the transaction may be tried again,
        else MergeRefused. at: the item that was being written. None: it is none of the driver's."""
        return None

    def locked(self, table: Table, keys: Sequence[Key]) -> Iterator[Row]:
        """The rows with these keys as they are at this moment, which nobody else changes until the transaction ends.
        Raises Disturbed where others hold one of them."""
        return self.fetch_many(table, keys)

    def existing(self, table: Table, keys: Sequence[Key]) -> Iterator[Key]:
        """Which of these keys are there at this moment; nobody removes their rows until the transaction ends."""
        yield from (table.key_of(row) for row in self.fetch_many(table, keys))

    @abstractmethod
    def insert(self, table: Table, row: Row) -> Key:
        """Add a row; a surrogate key that is not in it is given out by the database. Returns the row's key."""

    def insert_rows(self, table: Table, columns: Sequence[str], rows: Sequence[Sequence[Value]]) -> list[Key]:
        """Add rows that have values for the same columns, as `insert` does. Returns their keys, in order. Where one is
        refused, some may have been added: it is called within `holding_on`."""
        return [self.insert(table, dict(zip(columns, row, strict=True))) for row in rows]

    @abstractmethod
    def insert_many(self, table: Table, columns: Sequence[str], rows: Sequence[tuple[Value, ...]]) -> None:
        """Add many rows with their keys, inside a transaction or not."""

    @abstractmethod
    def replace_many(self, table: Table, columns: Sequence[str], rows: Sequence[tuple[Value, ...]]) -> None:
        """Add many rows, each in place of one with its key where there is one."""

    def copy_inside(self, source: Database, tables: Sequence[Table],
                    replaced: Sequence[tuple[str, str]] = (), seed: int | None = None, quick: bool = False
                    ) -> InsideCopy | None:
        """Start copying the rows of another database inside the server that holds both. None: it holds not both.

        replaced: pieces of text, and what to write in their place; a first guess at what staging has. seed: what its
        blocks' fingerprints begin with, if they are wanted. quick: nothing but these is, where there are any.
        """
        return None

    @abstractmethod
    def update(self, table: Table, key: Key, values: Row) -> None:
        """Set columns of the row with this key."""

    def update_rows(self, table: Table, columns: Sequence[str], rows: Sequence[tuple[Key, Sequence[Value]]]) -> None:
        """Set the same columns of rows that are there, some of them before one is refused: as `insert_rows`."""
        for key, values in rows:
            self.update(table, key, dict(zip(columns, values, strict=True)))

    def drafted(self, table: Table, columns: Sequence[str], rows: Sequence[tuple[Key, Sequence[Value]]]
                ) -> Draft | None:
        """What is to be written in rows that are there, set aside; outside a transaction. columns: none of the key's.
        None: the engine cannot, or not these."""
        return None

    @abstractmethod
    def remove(self, table: Table, key: Key) -> None:
        """Remove the row with this key."""

    def remove_rows(self, table: Table, keys: Sequence[Key]) -> None:
        """Remove rows that are there; as `insert_rows`."""
        for key in keys:
            self.remove(table, key)

    def refused_a_row(self, error: BaseException) -> bool:
        """Whether an error says that one of the rows of a statement cannot be written, so that to write each by itself
        tells which."""
        explained = self.explained(error)
        return explained is not None and not isinstance(explained, Disturbed)

    @contextmanager
    def holding_on(self) -> Iterator[None]:
        """Inside a transaction: what was done since is taken back where it ends with an error, and the rest stays."""
        yield

    @contextmanager
    def unheld_parents(self) -> Iterator[None]:
        """Inside a transaction: while it lasts, new rows do not hold what they point at by declared keys, where they
        would (`holds_parents`); the caller sees to it that it is there."""
        yield

    @contextmanager
    def own_clock(self, table: Table, columns: Sequence[str]) -> Iterator[None]:
        """Within `writing`, while rows of a table are written: what the database itself writes of the time, by triggers
        and defaults, is what it writes for the site's own code. columns: those that are written."""
        yield

    @abstractmethod
    def recount(self, table: Table, column: str, counted: Table, by: str, where: Mapping[str, Value],
                keys: Sequence[Value], through: tuple[Table, str, Mapping[str, Value]] | None = None) -> None:
        """Set a counter of rows, by their surrogate keys, to the number of `counted` rows whose `by` is a row's key.

        through: count only rows whose column points at a row of another table with these values.
        """

    @abstractmethod
    def clear(self, table: str, column: str | None = None, patterns: Sequence[str] = ()) -> None:
        """Remove all rows of a cache, or those whose column matches one of these shell wildcards (only `*`)."""

    def prepare_mark(self, table: str) -> None:
        """Make the table of markers where that cannot be part of a transaction."""
        return

    @abstractmethod
    def mark(self, table: str, name: str, when: str) -> None:
        """Write a merge's marker, in the transaction that it marks."""

    @abstractmethod
    def outline(self) -> Outline:
        """Everything but the rows."""

    @abstractmethod
    def build(self, outline: Outline) -> None:
        """Make the tables and indexes of an outline, empty; no views and no triggers yet."""

    @abstractmethod
    def finish(self, outline: Outline) -> None:
        """Set counters, add views and triggers: last, so that no trigger fires while rows are written."""

    def raw_rows(self, name: str) -> Iterator[tuple[Value, ...]]:
        """The rows of a table that an outline calls raw."""
        yield from ()

    def put_raw(self, name: str, rows: Iterable[Sequence[Value]]) -> None:
        """Set the rows of a table that an outline calls raw."""
        return

    @abstractmethod
    def create_table(self, table: Table) -> None:
        """Make a table as it is described; see `transactional_schema` for what that does to a transaction."""

    @abstractmethod
    def add_column(self, table: Table, column: Column, filled: Value = None) -> None:
        """Add a column as `table` of the other side has it. filled: of one that may not be empty and has no default,
        what all rows are to have in it; None: its type's empty value."""

    @abstractmethod
    def change_column(self, table: Table, column: Column) -> None:
        """Define a column anew, as `table` of the other side has it. Raises MergeRefused when the engine cannot."""

    def fits(self, table: Table, column: Column) -> bool:
        """Whether every value of a column would be the same if it were defined as here. table, column: as in
        `change_column`."""
        return True

    @abstractmethod
    def create_index(self, table: str, name: str, ddl: str) -> None:
        """Make an index by the statement that another database gave for it, written anew for this one."""

    @abstractmethod
    def drop(self, what: str, table: str, name: str) -> None:
        """Remove a "table", "column", "index" or "constraint"."""

    def add_constraint(self, table: Table, name: str, ddl: str) -> None:
        """Add a constraint, as `Table.constraints` has it. table: as the side that has it has it."""
        raise MergeRefused(f"The constraint {table.name}.{name} cannot be added by itself here.",
                           next_step="Add it on live by hand, then merge.")

    # Whether what is written holds single rows only, and a lock that comes late in a transaction (`writing`, late) sees
    # a row as it is then; else what somebody writes between the beginning and the lock breaks the transaction off.
    locks_late: bool = False
    moves_on: bool = False  # whether each statement of such a transaction sees what others have written by then
    holds_parents: bool = True  # whether a new row holds what it points at by a declared key, so that others wait
    computes: bool = False  # whether a server computes the digests, so that two of them are asked at once
    scans_for_children = False  # whether removing a row reads whole tables where no index leads to its children
    transactional_schema = True  # whether schema changes are part of transactions
    prefix = ""  # what the names of the site's tables begin with; names given and returned are without it

    def views(self) -> list[str]:
        """The names of the views that are copied with the tables."""
        return []

    def programs(self) -> set[tuple[str, str]]:
        """What is defined here beside tables: ("view", "trigger", "routine"), and its name."""
        return set()

    def running_code(self, called: Collection[str]) -> frozenset[str]:
        """Of names that definitions call, those of functions that may do more than work out a value from what they are
        given: that write, wait, read from elsewhere, or are the site's own."""
        return frozenset()

    def sizes(self) -> dict[str, tuple[int, int]]:
        """About how many rows and bytes each table has, where the engine can tell without counting."""
        return {}

    @contextmanager
    def locking(self) -> Iterator[None]:
        """While it lasts, `find` sees what is there now, and nobody adds to what it found until the transaction ends.
        """
        yield

    def be_strict(self) -> None:
        """From now on refuse values that a column cannot hold, instead of cutting them."""
        return

    def cannot_change(self, table: Table) -> str | None:
        """Why a column of this table cannot be defined anew in place, as `table` of the other side has it; or None."""
        return None

    def has_null(self, table: Table, column: str) -> bool:
        """Whether a row has no value in this column."""
        return False

    def has_duplicates(self, table: Table, columns: Sequence[str]) -> bool:
        """Whether two rows have the same values, none of them NULL, in these columns."""
        return False

    def fetch_locked(self, table: Table, key: Key) -> Row | None:
        """The row as it is at this moment, which nobody else changes until the transaction ends."""
        return next(iter(self.locked(table, [key])), None)

    def warnings(self) -> Iterator[EngineCaution]:
        """What the engine has to say about this database."""
        yield from ()

    @abstractmethod
    def broken_references(self, table: Table) -> Iterator[tuple[Key, ForeignColumn]]:
        """Rows whose declared foreign key points at nothing."""


@contextmanager
def explaining(*databases: Database) -> Iterator[None]:
    """While databases are read: an error of a driver's becomes one that a user can read (SiteError)."""
    try:
        yield
    except Exception as error:
        for database in databases:
            explained = database.explained(error)
            if explained is not None:
                what = explained.what.replace("refused the changes", "could not be read")
                next_step = "See to the database server, then run it again."
                raise SiteError(what, left="It was only being read.",
                                next_step=explained.next_step if isinstance(explained, MergeRefused)
                                else next_step) from error
        raise


@dataclass(frozen=True)
class ForeignColumn:
    """A column that points nowhere: for messages."""

    table: str
    column: str
    target: str
