"""Numbers that nobody has explained: what of staging may point at a row that was born there, and is not known to.

A clone keeps every key, so a number that is a key of the anchor's is right on both sides as it stands. One that equals
the key of a row born in staging would mean another thing on live. Each of those is looked at wherever it stands. What
it is, is judged by evidence; what is left is asked, and until then what holds it goes nowhere (design, section 4).
"""

from __future__ import annotations

import re
from collections.abc import Collection, Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field, replace

from nostos.core.compare.field_merge import Standing
from nostos.core.compare.items import Comparison, Item
from nostos.core.compare.row_states import Rows
from nostos.core.database.protocol import Database
from nostos.core.database.schema import Row, Table
from nostos.core.plan.row_writes import RowWrite, WriteAction, row_writes
from nostos.core.profiles.conditions import holds
from nostos.core.profiles.learning import words
from nostos.core.profiles.learning.findings import Certainty, Finding, Layer
from nostos.core.profiles.learning.kinds import CHANCE
from nostos.core.profiles.learning.markup import HEAD, attributes
from nostos.core.profiles.learning.references import (
    MARKUP,
    YES_OR_NO,
    Judge,
    called,
    discriminator,
    key_columns,
    numbers_in,
    sampled,
    spread,
)
from nostos.core.profiles.places import Place
from nostos.core.values.structures import all_leaves, fits
from nostos.core.values.tokens import CLOSE, OPEN

_TOKENS = re.compile(f"{OPEN}[^{CLOSE}]*{CLOSE}")
_ROWS, _VALUES, _FEW = 400, 100, 5


@dataclass(frozen=True)
class Question:
    """What is this place? numbers: what stands there. candidates: the tables whose rows of staging have these numbers.
    items: what waits for the answer. evidence: what speaks for and against."""

    place: Place
    numbers: tuple[int, ...]
    candidates: tuple[str, ...]
    items: tuple[str, ...]
    evidence: tuple[str, ...] = ()

    def __str__(self) -> str:
        some = ", ".join(map(str, self.numbers[:3])) + (", ..." if len(self.numbers) > 3 else "")
        return f"what {self.place} points at ({some})"


@dataclass
class _Found:
    numbers: set[int] = field(default_factory=set)
    items: set[str] = field(default_factory=set)


def unexplained(comparison: Comparison) -> dict[Place, _Found]:
    """Every place of what can go home where a number stands that a row born in staging has, and that is not known."""
    born = born_in_staging(comparison.rows)
    found: dict[Place, _Found] = {}
    told: dict[str, _Told] = {}
    if not born:
        return found
    for item in comparison.items.values():
        if item.goes_home:
            for write in row_writes(comparison.rows, item):
                if write.action is not WriteAction.REMOVE:
                    for place, number in _numbers(comparison.rows, write, born, told):
                        here = found.setdefault(place, _Found())
                        here.numbers.add(number)
                        here.items.add(item.id)
    return found


def born_in_staging(rows: Rows) -> dict[int, set[str]]:
    """The numbers that staging gave out since the clone to what live does not have under them, with their tables: of
    what is new there, and of what has come home since under another number."""
    born: dict[int, set[str]] = {}
    for table, key, name in rows.staging_keys.renamed():
        if isinstance(key, int) and rows.live_keys.key(table, name) != key:
            born.setdefault(key, set()).add(table)
    for state in rows.states.values():
        if state.staging is not None and state.base is None and state.staging_key is not None and rows.table(
                state.table).surrogate and state.live_key != state.staging_key:
            key = state.staging_key[0]
            if isinstance(key, int):
                born.setdefault(key, set()).add(state.table)
    return born


class _Told:
    """What a table's columns and the profile say of its numbers."""

    def __init__(self, rows: Rows, table: Table) -> None:
        self.pair = key_columns(table)
        self.named = any(k.table == table.name and not k.natural for k in rows.profile.kinds) or any(
            c.table == table.name and not c.natural for c in rows.profile.children)
        self.by = {c: self.pair[0] if self.pair and c == self.pair[1] else discriminator(table, c)
                   for c in table.names}


def _numbers(rows: Rows, write: RowWrite, born: Mapping[int, set[str]], told: dict[str, _Told]
             ) -> Iterator[tuple[Place, int]]:
    table = rows.table(write.state.table)
    raw = write.state.staging_raw or {}
    said = told.get(table.name)
    if said is None:
        said = told[table.name] = _Told(rows, table)
    pair, named = said.pair, said.named
    for column, value in write.values.items():
        if value is None or rows.profile.policy(table.name, raw, column).placed:
            continue  # nothing, or given out anew
        by = said.by[column] if column in said.by else discriminator(table, column)
        where: tuple[tuple[str, str], ...] = ((by, str(raw.get(by))),) if by else ()
        plain = named and not where  # the columns of a system's own tables are all known
        name = where[0][1] if pair and column == pair[1] else column
        if where and _is_told(rows, write, table, column, where):
            continue
        for path, leaf in all_leaves(value):
            place = Place(table.name, column, where).at(path)
            if isinstance(leaf, str) and OPEN in leaf:  # what is known is a token by now
                leaf = _TOKENS.sub(" ", leaf)
            for number in numbers_in(leaf):
                if number in born and not (plain and not path) and not _is_number(
                        rows, place, called(place) if place.path else name, born[number]):
                    yield place, number
            if isinstance(leaf, str) and not numbers_in(leaf) and any(c in leaf for c in "<[{?"):
                for step, held in attributes(leaf):
                    if step == HEAD or (step.endswith("-") and not any(
                            words.likeness(step, t, table.name) >= 0.8 for t in rows.live_tables)):
                        continue  # names of styles are full of numbers
                    attribute = place.at((*place.path, step))
                    for number in numbers_in(held):
                        if number in born and not _is_number(rows, attribute, called(attribute), born[number]):
                            yield attribute, number


def _is_told(rows: Rows, write: RowWrite, table: Table, column: str, where: tuple[tuple[str, str], ...]) -> bool:
    """Whether a profile says what is kept under a key: its references are tokens by now, and the rest is known."""
    full = {**(write.state.staging_raw or {}), **write.state.joined}
    return any(r.table == table.name and r.column == column and r.where and r.path is None and r.pattern is None
               and holds(r.where, full) for r in rows.profile.references) or any(
        p.table == table.name and p.column == column and p.where and not p.path and holds(p.where, full)
        and not p.policy.structured for p in rows.profile.policies)


def _is_number(rows: Rows, place: Place, name: str, tables: Iterable[str]) -> bool:
    """Whether a place is known to hold no references."""
    name = name.lstrip("@")
    column = rows.table(place.table).column(place.column)
    if column is not None and not place.path and YES_OR_NO.search(column.declared):
        return True
    kinds = {k.name for k in rows.profile.kinds if k.table in tables}
    if any(words.likeness(name, t, place.table) >= 0.8 for t in (*tables, *kinds)):
        return False  # it is called as what it may point at
    if words.says_measure(name) or words.says_name(name) or place in rows.profile.numbers:
        return True
    tail = tail_of(place)
    if tail and any(tail == tail_of(n) for n in rows.profile.numbers):
        return True
    return any(n.table == place.table and n.column == place.column and set(n.where) <= set(place.where)
               and (fits(n.path, place.path) or (not n.path and not n.where)) for n in rows.profile.numbers)


def tail_of(place: Place) -> tuple[str, ...]:
    """The end of a place inside a structure by which one structure is like another; empty where it says too little."""
    steps = [s for s in (place.column, *place.path) if s[:1] != "*"][-2:]
    return tuple(steps) if place.path and len(steps) == 2 and ("@" in steps[-1] or len(place.path) > 2) else ()


def _together(questions: Iterable[Question]) -> list[Question]:
    """One question for places that are alike: an answer to one explains the others."""
    found: dict[object, Question] = {}
    for q in questions:
        like = tail_of(q.place) or q.place
        other = found.get(like)
        found[like] = q if other is None else replace(
            other, numbers=tuple(sorted({*other.numbers, *q.numbers})), items=tuple(sorted({*other.items, *q.items})),
            candidates=tuple(sorted({*other.candidates, *q.candidates})))
    return list(found.values())


class Explainer:
    """Judges places by both sides' data."""

    def __init__(self, rows: Rows, live_db: Database, staging_db: Database, people: Sequence[str] = ()) -> None:
        self.rows = rows
        self.sides = ((live_db, rows.live_tables), (staging_db, rows.staging_tables))
        self.judges = [Judge(database, tables, people, rows.profile.references) for database, tables in self.sides]
        self.born = born_in_staging(rows)
        self._samples: dict[str, list[Row]] = {}

    def explain(self, found: Mapping[Place, _Found], tried: Collection[Place] = ()
                ) -> tuple[Layer, tuple[Question, ...]]:
        """What is sure of these places, as a layer; and the questions that are left. tried: places that have been read
        as the references that they are; a number that is left there stands in some way that is not understood, so that
        it is asked, however sure the place is."""
        sure: list[Finding] = []
        questions = []
        for place, here in sorted(found.items(), key=lambda f: str(f[0])):
            candidates = sorted(set().union(*(self.born.get(n, set()) for n in here.numbers)))
            finding = self._judged(place, here.numbers, candidates)
            if finding is not None and place in tried:
                questions.append(Question(place, tuple(sorted(here.numbers)), (finding.to,),
                                          tuple(sorted(here.items)), finding.evidence))
                continue
            if finding is None:
                left, evidence = self._weighed(place, [t for t in candidates if self._all_there(t, here.numbers)])
                if not left:
                    finding = Finding(place, Certainty.NONE, "", evidence)
                else:
                    questions.append(Question(place, tuple(sorted(here.numbers)), tuple(left),
                                              tuple(sorted(here.items)), evidence))
            if finding is not None:
                sure.append(finding)
        questions = _together(questions)
        layer = Layer("since", tuple(r for f in sure if f.certainty is Certainty.SURE for r in f.references),
                      frozenset(f.place for f in sure if f.certainty is Certainty.NONE), findings=tuple(sure))
        return layer, tuple(questions)

    def _judged(self, place: Place, numbers: Iterable[int], candidates: Sequence[str]) -> Finding | None:
        """A finding that is sure by staging's own data: what is called so, and all of which is there."""
        name = called(place)
        values = sampled([*numbers, *self._values(place)])
        found = self.judges[1].judge(place, name, values)
        if found is not None and found.certainty is Certainty.SURE:
            return found  # whichever table it is: if it is none of the candidates, the number is another row's
        tail = tail_of(place)
        goals = {r.to for r in self.rows.profile.references if tail and r.path and r.to and r.to_column is None
                 and tail == tail_of(Place(r.table, r.column, r.where, r.path))}
        if len(goals) == 1:
            return Finding(place, Certainty.SURE, min(goals), (f"as `{'/'.join(tail)}` does elsewhere",))
        return self._by_kind(place, list(numbers), candidates)

    def _by_kind(self, place: Place, numbers: list[int], candidates: Sequence[str]) -> Finding | None:
        """Where all values are rows of one kind, of a table of many kinds, and so is staging's: that is no chance."""
        values = spread(sorted(set(self._values(place))), _VALUES)
        sure = []
        for table in candidates if len(values) >= _FEW else ():
            kinds = self._kinds(0, table, values)
            here = self._kinds(1, table, numbers)
            if len(kinds) != len(values) or len({*kinds.values(), *here.values()}) != 1:
                continue
            kind = next(iter(kinds.values()))
            some = [self._kind(table, row) for row in self._sample(table)]
            share = some.count(kind) / len(some) if some else 1.0
            if share ** len(values) < CHANCE:
                sure.append(Finding(place, Certainty.SURE, table, (
                    f"for {table}: all {len(values)} values are keys of a {kind}, as which {share:.0%} of its rows are",
                    )))
        return sure[0] if len(sure) == 1 else None

    def _kind(self, table: str, row: Row) -> str:
        kind = self.rows.profile.kind_of(table, row)
        return kind.named(row) if kind is not None else ""

    def _kinds(self, side: int, table: str, numbers: Sequence[int]) -> dict[int, str]:
        database, tables = self.sides[side]
        if table not in tables:
            return {}
        key = tables[table].key[0]
        return {int(str(row[key])): self._kind(table, row)
                for row in database.find_any(tables[table], key, list(numbers), {}) if row[key] in numbers}

    def _sample(self, table: str) -> list[Row]:
        database, tables = self.sides[0]
        if table not in self._samples and table in tables:
            self._samples[table] = list(database.sample(tables[table], _ROWS))
        return self._samples.get(table, [])

    def _weighed(self, place: Place, candidates: Sequence[str]) -> tuple[list[str], tuple[str, ...]]:
        """The candidates that the other values at the place do not speak against, and the evidence."""
        values = spread(sorted(set(self._values(place))), _VALUES)
        bare = [t for t in candidates if t not in self.judges[0].tables or not values]
        shares: dict[str, float] = dict.fromkeys(bare, 0.0)
        evidence = []
        if bare:
            evidence.append(f"new rows of {', '.join(bare)} have these numbers; nothing else is there to judge by")
        for table in candidates:
            if table in bare:
                continue
            share = len(self.judges[0].there(table, values)) / len(values)
            speaks_for = share >= 0.2 or len(values) < _FEW
            if speaks_for:
                shares[table] = share
            evidence.append(f"{'for' if speaks_for else 'against'} {table}: {share:.0%} of {len(values)} other values "
                            "are its keys")
        return sorted(shares, key=lambda t: (-shares[t], t)), tuple(evidence)

    def _all_there(self, table: str, numbers: Collection[int]) -> bool:
        """Whether staging has rows with all of these numbers, so that what stands there may point at them."""
        judge = self.judges[1]
        return table not in judge.tables or len(judge.there(table, spread(sorted(numbers), _VALUES))) == len(
            spread(sorted(numbers), _VALUES))

    def _values(self, place: Place) -> list[int]:
        """Numbers that stand at a place on live."""
        table = self.sides[0][1].get(place.table)
        if table is None or table.column(place.column) is None:
            return []
        rows = [r for r in self._sample(place.table) if all(str(r.get(c)) == v for c, v in place.where)]
        if not place.path:
            return [n for row in rows for n in numbers_in(row[place.column])]
        found: list[int] = []
        for row in rows:
            for path, leaf in all_leaves(row[place.column]):
                if place.at(path) == place:
                    found += numbers_in(leaf)
                elif place.path[-1].startswith("@") and isinstance(leaf, str) and MARKUP.search(leaf):
                    found += [n for step, held in attributes(leaf) if step == place.path[-1] for n in numbers_in(held)]
        return found


def hold_back(comparison: Comparison, questions: Sequence[Question]) -> Comparison:
    """The comparison with what waits for an answer standing open. What only visitors' test data waits for is not asked.
    """
    why: dict[str, list[str]] = {}
    for question in questions:
        for item in question.items:
            why.setdefault(item, []).append(str(question))
    for name, asked in why.items():
        comparison.items[name] = _open(comparison.items[name], asked)
    asked_for = [q for q in questions if any(not comparison.items[i].visitors for i in q.items)]
    return replace(comparison, questions=tuple(asked_for))


def _open(item: Item, asked: Sequence[str]) -> Item:
    return replace(item, standing=Standing.OPEN, reason=f"it is not known {'; '.join(asked)}")
