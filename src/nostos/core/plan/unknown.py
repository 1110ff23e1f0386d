"""Numbers that nobody has explained: what of staging may point at a row that was born there, and is not known to.

A clone keeps every key, so a number that is a key of the anchor's is right on both sides as it stands. One that equals
the key of a row born in staging would mean another thing on live. Each of those is looked at wherever it stands. What
it is, is weighed; what is left is asked, and until then what holds it goes nowhere (design, section 4). In a refresh
the same is asked of live's births: *source* is the side that is read, *target* the one that is written.
"""

from __future__ import annotations

from collections.abc import Collection, Iterable, Iterator, Mapping, Sequence
from dataclasses import field, replace
from functools import lru_cache

from nostos.core.anchor.names import Side
from nostos.core.compare.field_merge import Standing
from nostos.core.compare.items import Comparison, Item
from nostos.core.compare.row_states import Rows
from nostos.core.database.protocol import Database
from nostos.core.database.schema import Row, Table, Value
from nostos.core.expressions import expression
from nostos.core.learning.bits import SURE, Weighed
from nostos.core.learning.evidence import YES_OR_NO, PointersAt, Weigher
from nostos.core.learning.findings import Certainty, Finding, Layer
from nostos.core.learning.kinds import sampled
from nostos.core.learning.places import Held, called, discriminator, key_columns, kind_said
from nostos.core.plan.row_writes import RowWrite, WriteAction, row_writes
from nostos.core.profiles.conditions import holds
from nostos.core.profiles.places import Place
from nostos.core.records import dataclass
from nostos.core.values import located, shapes, words
from nostos.core.values.structures import fits, text_in
from nostos.core.values.tokens import CLOSE, OPEN

_TOKENS = expression(f"{OPEN}[^{CLOSE}]*{CLOSE}")
_ELSEWHERE = expression(r"""(?i)\b(?:https?|ftp):\\?/\\?/[\w-][^\s"'<>]*""")
_ROWS = 400  # of a table, whose places are held beside the one that is asked for
_LIKELY = 8  # tables that a question offers, at most
_DIGITS = expression(r"[1-9][0-9]*")
_LONG = 20  # digits of what is no key
_COVERED = expression(r"[A-Za-z0-9+/]{24}|\\\\u00")  # base64, escapes
Born = Mapping[int, set[str]]


@dataclass(frozen=True)
class Question:
    """What is this place? numbers: what stands there. candidates: the tables that it may point at, the likeliest first.
    items: what waits for the answer. evidence: what speaks for and against. here, there: what a number is called that
    stands there: by candidate, on the side that is read, and on the one that is written (empty: no row has it)."""

    place: Place
    numbers: tuple[int, ...]
    candidates: tuple[str, ...]
    items: tuple[str, ...]
    evidence: tuple[str, ...] = ()
    here: tuple[tuple[str, str], ...] = ()
    there: tuple[tuple[str, str], ...] = ()
    source: Side = Side.STAGING  # the side that is read: live in a refresh
    alike: tuple[Place, ...] = ()  # other places that this is asked of in one, for they are called the same

    @property
    def places(self) -> tuple[Place, ...]:
        """All places that an answer is about."""
        return (self.place, *self.alike)

    def __str__(self) -> str:
        some = ", ".join(map(str, self.numbers[:3])) + (", ..." if len(self.numbers) > 3 else "")
        return f"what {self.place} points at ({some})"


@dataclass
class _Found:
    numbers: set[int] = field(default_factory=set)
    items: set[str] = field(default_factory=set)


def unexplained(comparison: Comparison) -> dict[Place, _Found]:
    """Every place of what can go where a number stands that a row born on the source has, and that is not known."""
    born = born_on_source(comparison.rows)
    findings: dict[Place, _Found] = {}
    declarations: dict[str, _Told] = {}
    if not born:
        return findings
    for item in comparison.items.values():
        if item.goes_home:
            for write in row_writes(comparison.rows, item):
                if write.action is not WriteAction.REMOVE:
                    for place, number in _numbers(comparison.rows, write, born, declarations):
                        here = findings.setdefault(place, _Found())
                        here.numbers.add(number)
                        here.items.add(item.id)
    return findings


def born_on_source(rows: Rows) -> dict[int, set[str]]:
    """The numbers that the source gave out since the clone to what the target does not have under them, with their
    tables: of what is new there, and of what has come over since under another number."""
    born: dict[int, set[str]] = {n: set(tables) for n, tables in rows.uncompared.get(rows.source, {}).items()}
    for table, key, name in rows.source_keys.renamed():
        if isinstance(key, int) and rows.target_keys.key(table, name) != key:
            born.setdefault(key, set()).add(table)
    for state in rows.states.values():
        if state.source is not None and state.base is None and state.source_key is not None and rows.table(
                state.table).surrogate and state.target_key != state.source_key:
            key = state.source_key[0]
            if isinstance(key, int):
                born.setdefault(key, set()).add(state.table)
    return born


class _Told:
    """What a table's columns and the profile say of its numbers."""

    def __init__(self, rows: Rows, table: Table) -> None:
        self.pair = key_columns(table)
        self.named = any(k.table == table.name and not k.natural for k in rows.profile.kinds) or any(
            c.table == table.name and not c.natural for c in rows.profile.children)
        self.kinds = {c: discriminator(table, c) for c in table.names}  # by what says the kind of a number there


def _numbers(rows: Rows, write: RowWrite, born: Born, declarations: dict[str, _Told]) -> Iterator[tuple[Place, int]]:
    table = rows.table(write.state.table)
    raw = write.state.source_raw or {}
    declaration = declarations.get(table.name)
    if declaration is None:
        declaration = declarations[table.name] = _Told(rows, table)
    for column, value in write.values.items():
        if value is None or rows.profile.policy(table.name, raw, column).placed:
            continue  # nothing, or given out anew
        key = declaration.pair[0] if declaration.pair and column == declaration.pair[1] else ""
        kind = declaration.kinds.get(column)
        if key and _is_told(rows, write, table, column, ((key, str(raw.get(key))),)):
            continue
        if not _may_hold(raw.get(column), born):
            continue
        for path, number in located.numbers(value, clean=_without_tokens):
            # The columns of a system's own tables are all known.
            if number in born and (path or key or not declaration.named):
                by = key or (kind if not path else "")
                place = Place(table.name, column, ((by, str(raw.get(by))),) if by else ()).at(path)
                if not is_number(rows, place):
                    yield place, number


def _may_hold(value: Value, born: Born) -> bool:
    """Whether any of these numbers can be in a value, told without reading it: most texts hold none."""
    if isinstance(value, bytes):
        value = text_in(value)
        if value is None:
            return False
    if not isinstance(value, str) or _COVERED.search(value):
        return True
    return any(len(digits) < _LONG and int(digits) in born for digits in _DIGITS.findall(value))


def _without_tokens(text: str) -> str:
    """A portable text without what is known in it: the site's own addresses and rows are tokens, and an address that is
    left is another site's, whose numbers are not this one's."""
    text = _TOKENS.sub(" ", text) if OPEN in text else text
    return _ELSEWHERE.sub(" ", text) if "//" in text else text


def _is_told(rows: Rows, write: RowWrite, table: Table, column: str, where: tuple[tuple[str, str], ...]) -> bool:
    """Whether a profile says what is kept under a key: its references are tokens by now, and the rest is known."""
    full = {**(write.state.source_raw or {}), **write.state.joined}
    return any(r.table == table.name and r.column == column and r.where and r.path is None and r.pattern is None
               and holds(r.where, full) for r in rows.profile.references) or any(
        p.table == table.name and p.column == column and p.where and not p.path and holds(p.where, full)
        and not p.policy.structured for p in rows.profile.policies)


def is_number(rows: Rows, place: Place) -> bool:
    """Whether a place is known to hold no references."""
    column = rows.table(place.table).column(place.column)
    if column is not None and not place.path and YES_OR_NO.search(column.declared):
        return True
    if place in rows.profile.numbers or rows.profile.closes(place, column):
        return True
    if place.path and shapes.is_standard(place.path[-1]):
        return True
    return (tail_of(place) or None) in _tails(rows.profile.numbers) or any(set(n.where) <= set(place.where) and (
        fits(n.path, place.path) or (not n.path and not n.where))
        for n in rows.profile.numbers_in(place.table, place.column))


@lru_cache(maxsize=8)
def _tails(places: frozenset[Place]) -> frozenset[tuple[str, ...]]:
    """The ends of places."""
    return frozenset(map(tail_of, places)) - {()}


def tail_of(place: Place) -> tuple[str, ...]:
    """The end of a place inside a structure by which one structure is like another; empty where it says too little."""
    steps = [s for s in (place.column, *place.path) if s[:1] != "*"][-2:]
    return tuple(steps) if place.path and len(steps) == 2 and ("@" in steps[-1] or len(place.path) > 2) else ()


def _together(questions: Iterable[Question]) -> list[Question]:
    """One question for places that are alike: called the same, and likely to point at the same. An answer to it is one
    to each of them."""
    groups: dict[object, Question] = {}
    for q in questions:
        name = words.pointing(called(q.place))
        like = tail_of(q.place) or ((name, q.candidates[0]) if name and q.candidates else q.place)
        other = groups.get(like)
        groups[like] = q if other is None else replace(
            other, numbers=tuple(sorted({*other.numbers, *q.numbers})), items=tuple(sorted({*other.items, *q.items})),
            candidates=tuple(dict.fromkeys((*other.candidates, *q.candidates))), alike=(*other.alike, *q.places))
    return list(groups.values())


class Explainer:
    """Weighs places by both sides' data. target_db, source_db: the side that is written, and the one that is read.
    pointers: what the system itself says, on the side that is read, if it says anything."""

    def __init__(self, rows: Rows, target_db: Database, source_db: Database, pointers: PointersAt | None = None
                 ) -> None:
        self.rows = rows
        self.source, self.target = source_db, target_db
        self._written = {(w.table, w.column) for w in rows.profile.written}
        self.weigher = Weigher(source_db, rows.source_tables, rows.profile.references, pointers=pointers,
                               written=self._written)
        self.born = born_on_source(rows)
        self._ends: dict[tuple[str, ...], set[str]] = {}  # of places that are known to point anywhere
        for r in rows.profile.references:
            tail = tail_of(Place(r.table, r.column, r.where, r.path)) if r.path and r.to and r.to_column is None else ()
            if tail:
                self._ends.setdefault(tail, set()).add(r.to)
        self._samples: dict[str, list[Row]] = {}
        self._by_table: dict[str, set[int]] = {}
        for number, tables in self.born.items():
            for table in tables:
                self._by_table.setdefault(table, set()).add(number)

    def explain(self, findings: Mapping[Place, _Found], tried: Collection[Place] = ()
                ) -> tuple[Layer, tuple[Question, ...]]:
        """What is sure of these places, as a layer; and the questions that are left. tried: places that have been read
        as the references that they are; a number that is left there stands in some way that is not understood, so that
        it is asked, however sure the place is."""
        sure: list[Finding] = []
        weighed: dict[Place, Weighed] = {}
        for place, here in sorted(findings.items(), key=lambda f: str(f[0])):
            if self._copies_a_number(place):
                sure.append(Finding(place, Certainty.NONE, "", ("a column that points nowhere, written down",)))
            else:
                weighed[place] = self._weighed(place, here.numbers)
        more = True
        while more:  # what is sure of one place is sure of those that are like it
            more = False
            for place in [*weighed]:
                finding = self._finding(place, findings[place], weighed[place], sure, place in tried)
                if finding is not None:
                    sure.append(finding)
                    del weighed[place]
                    more = True
        layer = Layer("since", tuple(r for f in sure if f.certainty is Certainty.SURE for r in f.references),
                      frozenset(f.place for f in sure if f.certainty is Certainty.NONE), findings=tuple(sure))
        return layer, tuple(_together([
            self._question(place, findings[place], some, self._goals(place, findings[place], some, sure))
            for place, some in weighed.items()]))

    def _goals(self, place: Place, here: _Found, weighed: Weighed, sure: Sequence[Finding]) -> set[str]:
        """The tables that a question is about, where nothing makes one likelier than another."""
        goal = self._alike(place, sure) or weighed.sure()
        return {goal} if goal else self._born(here)

    def _born(self, here: _Found) -> set[str]:
        """The tables that have new rows of these numbers."""
        return set().union(*(self.born.get(n, set()) for n in here.numbers))

    def _finding(self, place: Place, here: _Found, weighed: Weighed, sure: Sequence[Finding], tried: bool
                 ) -> Finding | None:
        """What a place is for sure; None where it has to be asked."""
        goal = self._alike(place, sure) or weighed.sure()
        if goal:
            why = weighed.reasons(goal) if goal in weighed.tables else (f"as `{'/'.join(tail_of(place))}` does "
                                                                        "elsewhere",)
            return None if tried else Finding(place, Certainty.SURE, goal, why, len(here.numbers) > 1)
        born = self._born(here)
        if weighed.is_plain(born):
            best = max(born & weighed.tables.keys(), key=lambda t: weighed.tables[t][0], default="")
            return Finding(place, Certainty.NONE, "", weighed.reasons(best) if best else ())
        return None

    def _alike(self, place: Place, sure: Iterable[Finding]) -> str:
        """What places of the same end are known to point at, elsewhere. sure: what was found besides."""
        tail = tail_of(place)
        goals = set(self._ends.get(tail, ())) | {f.to for f in sure if f.certainty is Certainty.SURE and tail
                                                 and tail_of(f.place) == tail}
        return goals.pop() if len(goals) == 1 else ""

    def _weighed(self, place: Place, numbers: Iterable[int]) -> Weighed:
        """A place, by what stands there in all rows, and by what it is called."""
        name, pair = called(place), key_columns(self.rows.table(place.table))
        if place.where and not place.path and not (pair and place.column == pair[1]):
            name = f"{kind_said(place.where[0][1])} id"
        seen = self._held(place)
        fresh = set(numbers)
        if not seen.numbers.keys() - fresh:  # what is new alone counts once, as that
            seen.numbers = {}
        copied = self.weigher.copied(self._beside(place), place.path[-1].partition("@")[0]) if place.path else ""
        return self.weigher.weigh(place, name, seen, fresh=fresh, born=self._by_table, copied=copied)

    def _copies_a_number(self, place: Place) -> bool:
        """Whether a place is in a row of another table that is written down, and its column there points nowhere."""
        if (place.table, place.column) not in self._written or len(place.path) < 2:
            return False
        self._held(place)
        return self.weigher.copies_a_number(self._beside(place), place.path[-1])

    def _beside(self, place: Place) -> frozenset[str]:
        """The keys of the map that a leaf is in, in the last row that has one."""
        beside: frozenset[str] = frozenset()
        for row in self._samples.get(place.table, ()):
            value = row.get(place.column)
            if isinstance(value, str) and all(str(row.get(c)) == v for c, v in place.where):
                beside = next((keys for path, keys in located.maps(value)
                              if Place(place.table, place.column, place.where).at(path).path == place.path[:-1]),
                              beside)
        return beside

    def _question(self, place: Place, here: _Found, weighed: Weighed, born: Collection[str]) -> Question:
        best = weighed.tables[weighed.best][0] if weighed.best else 0.0
        likely = [t for t, (bits, _) in weighed.tables.items() if bits > max(best - SURE, -SURE)][:_LIKELY] or [*born]
        names = sorted(here.numbers)
        evidence = tuple(weighed.reasons(t)[0] + ": " + "; ".join(weighed.reasons(t)[1:4]) for t in likely[:3])
        return Question(place, tuple(names), tuple(likely), tuple(sorted(here.items)), evidence,
                        tuple((t, self._title(self.source, self.rows.source_tables, t, names[0])) for t in likely),
                        tuple((t, self._title(self.target, self.rows.target_tables, t, names[0])) for t in likely),
                        self.rows.source)

    def _title(self, database: Database, tables: Mapping[str, Table], name: str, number: int) -> str:
        """What the row of a number is called on a side; empty where there is none."""
        table = tables.get(name)
        row = database.fetch(table, (number,)) if table is not None else None
        if table is None or row is None:
            return ""
        kind = self.rows.profile.kind_of(name, row)
        column = kind.title if kind is not None and kind.title in row else None
        texts = [str(row[c]) for c in ([column] if column else table.stored) if isinstance(row[c], str) and row[c]]
        lines = (texts or [""])[0].strip().splitlines()
        called_so = kind.named(row) if kind is not None else name
        return f"{called_so} {lines[0][:60]!r}" if lines and lines[0] else f"{called_so} {number}"

    def _held(self, place: Place) -> Held:
        """What stands at a place, in rows of the source."""
        held = Held()
        table = self.rows.source_tables.get(place.table)
        if table is None or table.column(place.column) is None:
            return held
        if place.table not in self._samples:
            self._samples[place.table] = sampled(self.source, table, _ROWS)
        for row in self._samples[place.table]:
            value = row[place.column]
            if any(str(row.get(c)) != v for c, v in place.where) or value in (None, 0, "", "0"):
                continue
            here = [n for path, n in located.numbers(value) if Place(place.table, place.column, place.where).at(
                path) == place] if isinstance(value, int | str) else []
            if here:
                held.add(here)
            elif not place.path:
                held.other += 1
        return held


def hold_back(comparison: Comparison, questions: Sequence[Question]) -> Comparison:
    """The comparison with what waits for an answer standing open."""
    why: dict[str, list[str]] = {}
    for question in questions:
        for item in question.items:
            why.setdefault(item, []).append(str(question))
    for name, asked in why.items():
        comparison.items[name] = _open(comparison.items[name], asked)
    return replace(comparison, questions=tuple(questions))


def asked_for(comparison: Comparison) -> Comparison:
    """The comparison with the questions that somebody waits for: what only visitors' test data waits for is not asked,
    as long as nothing else needs it. comparison: once it is known what needs what."""
    waiting = [i for i in comparison.items.values() if i.standing is Standing.OPEN and not i.visitors]
    return replace(comparison, questions=tuple(
        q for q in comparison.questions if any(i.id in q.items or str(q) in i.reason for i in waiting)))


def _open(item: Item, asked: Sequence[str]) -> Item:
    return replace(item, standing=Standing.OPEN, reason=f"it is not known {'; '.join(asked)}")
