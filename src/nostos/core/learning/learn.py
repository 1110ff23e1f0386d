"""Learning a site: what points at what, whose rows are whose, what tells rows apart.

Only a sample is read of each table, and what an index leads to.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Collection, Iterable, Mapping, Sequence
from dataclasses import replace
from itertools import pairwise

from nostos.core.database.protocol import Database
from nostos.core.database.schema import Row, Table
from nostos.core.expressions import expression
from nostos.core.learning.address import pieces_in
from nostos.core.learning.bits import SURE
from nostos.core.learning.by_name import named_rows_in
from nostos.core.learning.evidence import Weigher
from nostos.core.learning.findings import Certainty, Finding, Layer, learned
from nostos.core.learning.kinds import sampled
from nostos.core.learning.made import repeats
from nostos.core.learning.parts import parts
from nostos.core.learning.places import ROWS, Held, echoes, key_columns, places, siblings
from nostos.core.learning.pointers import pointers_of
from nostos.core.learning.restrictions import Restrictions
from nostos.core.learning.trees import nested_of, tree_of
from nostos.core.learning.whose import by_values, whose
from nostos.core.patterns import matches
from nostos.core.profiles.conditions import holds
from nostos.core.profiles.model import Profile
from nostos.core.profiles.parts import Kind
from nostos.core.profiles.places import Place
from nostos.core.profiles.policies import COUNTED, NEWEST, TEXT
from nostos.core.profiles.row_trees import RowTree
from nostos.core.values import shapes, words
from nostos.core.values.structures import fits, may_be_structure, read

_OWN = ("nostos_*",)
_BOUGHT = words.listed("bought")
_PLACE = expression(r"[0-9A-Z]+|[/.]?(?:\d+[/.])*\d*")  # of a place in a tree, written as a path
_COUNTED = words.listed("counted")
_CHANGES = frozenset({"updated", "modified", "changed", "edited", "published", "latest", "touched", "saved"})
_TIMES = ("_at", "_on", "time", "date", "_gmt")
_LINES = expression(r"\S\s*(?:\n|</p>)\s*\S")  # between two lines, or paragraphs
_STRUCTURES = 100  # texts that are read
_TURNS = 2
_FEW = 4  # values, that are too few to show an order


def learn(database: Database, tables: Mapping[str, Table], profile: Profile,
          tell: Callable[[str], None] = lambda _: None, only: Collection[str] | None = None,
          address: Mapping[str, str] | None = None) -> Layer:
    """Work out what a profile does not tell. profile: completed with what the schema says. tell: is told of each table.
    only: learn of these tables alone. address: the pieces of the site's own, to be looked for.
    """
    usable = {n: t for n, t in tables.items() if not matches(n, (*profile.volatile, *_OWN))}
    named = {k.table for k in profile.kinds if not k.natural} | {c.table for c in profile.children}
    samples: dict[str, list[Row]] = {}
    for name, table in usable.items():
        tell(name)
        samples[name] = sampled(database, table, ROWS) if only is None or name in only else []
    weigher = Weigher(database, usable, profile.references, samples, pointers_of(database, usable, profile))
    declared = {(r.table, r.column) for r in profile.references}
    findings: list[Finding] = []
    seen: list[tuple[Place, str, Held]] = []
    for name, table in usable.items():
        if only is not None and name not in only:
            continue
        seen += [(place, called, values) for place, called, values in places(
            table, samples[name], _titles(table, usable, samples, profile))
            if not _is_told(profile, place, table) and (place.where or place.path or not (
                name in named or (name,
                                  place.column) in declared))]  # the columns of a system's own tables are all known
    for _ in range(_TURNS):  # what is sure tells of what is called alike
        weigher.know(seen)
    findings += [finding for place, called, values in seen
                 if (finding := weigher.finding(place, called, values)) is not None]
    for name, table in usable.items():
        if only is not None and name not in only:
            continue
        findings += named_rows_in(database, table, samples[name], usable) if name not in named else ()
        findings += _echoed(table, samples[name], findings, profile)
    sure = [f for f in findings if f.certainty is Certainty.SURE]
    unknown = [t for n, t in usable.items() if n not in named and (only is None or n in only)]
    unsaid = [t for t in unknown if not profile.whose(t.name)]
    of = whose(unsaid, samples, findings, profile, weigher.people, usable.values())
    visitors, why = of.visitors, dict(of.why)
    made = tuple(t.name for t in unknown if repeats(database, t, samples[t.name], sure, usable))
    kinds = {k.table: k.name for k in profile.kinds}
    sold = {kind for k in profile.kinds if "{" in k.name for row in samples.get(k.table, ()) if holds(k.where, row)
            for kind in (k.named(row),) if set(words.words(kind)) & _BOUGHT and not k.visitors}
    why |= dict.fromkeys(sold, "its name says that visitors make it")
    kept = [t.name for t in unknown if t.name not in made and t.name not in visitors]
    guarded = list(Restrictions(usable, samples, sure, of.accounts).of(kept))
    pieces, ranks = parts({t.name: t for t in unknown if t.name not in made}, sure, visitors, samples)
    children = {c.table: c for c in (*(c for c, _ in guarded if c is not None), *pieces)}
    told_apart = {f.place for f in ranks}
    findings = [*(f for f in findings if f.place not in told_apart), *ranks]
    return learned(
        tuple(findings), visitors=(*(kinds[t] for t in visitors if t in kinds), *sorted(sold)),
        editors=tuple(kinds[t] for t in of.editors if t in kinds), made=made, why=why,
        accounts=tuple(kinds[t] for t in of.accounts if t in kinds),
        firm=(*(kinds[t] for t in of.firm if t in kinds), *sorted(sold)),
        hung={kinds[t]: kinds[above] for t, above in of.hung.items() if t in kinds and above in kinds},
        below={kinds[t]: tuple(kinds[g] for g in goals if g in kinds) for t, goals in of.below.items() if t in kinds},
        personal=tuple(p for t in unknown for p in _personal(t, samples[t.name])),
        sampled=(len(samples), sum(map(len, samples.values()))),
        names={t.name: _name(t, samples[t.name]) for t in unknown if t.surrogate},
        structures=tuple(place for t in unknown for place in _structures(t, samples[t.name])),
        kinds=tuple(k for t in unknown if t.surrogate for k in _kinds_of(t, weigher, visitors)),
        trees=tuple(_trees(database, unknown, samples, sure)),
        nested=tuple(n for t in unknown for n in (nested_of(database, t, samples[t.name], _upward(t, sure)),) if n),
        children=tuple(children.values()), protects=tuple(statement for _, statement in guarded),
        policies=tuple(p for t in unknown for p in _policies(t, samples[t.name])),
        joins=tuple(j for n, t in usable.items() for j in siblings(t, samples[n])
                    if any(c == j.name for f in sure for c, _ in f.place.where)),
        pieces=tuple(p for n, t in usable.items() if address for p in pieces_in(t, samples[n], address)))


def _kinds_of(table: Table, weigher: Weigher, visitors: Collection[str]) -> Iterable[Kind]:
    """Rows of a table of many kinds that visitors make, such as orders that are kept among pages."""
    column, kinds = weigher.kinds.own(table.name) if table.name not in visitors else ("", ())
    for kind in sorted(kinds):
        if set(words.words(kind)) & _BOUGHT:
            title = next((c for c in ("title", "name", "label") if c in table.stored), None)
            yield Kind(f"{table.name}-{kind}", table.name, ((column, kind),), table.key, title, visitors=True,
                       natural=True)


def _personal(table: Table, rows: Sequence[Row]) -> Iterable[tuple[str, str, str]]:
    """Columns whose values are mail addresses or those of machines, whatever they are called."""
    yield from ((table.name, column, {"mail": "email", "machine": "ip"}[kind])
                for kind, column, _ in by_values(table, rows) if kind in ("mail", "machine"))


def _policies(table: Table, rows: Sequence[Row]) -> Iterable[tuple[str, str, str]]:
    """Columns that visitors count up and down, times of changes, and texts of several lines."""
    for column in table.columns:
        parts_of = words.words(column.name)
        if set(parts_of) & _COUNTED and words.says_measure(column.name):
            yield table.name, column.name, str(COUNTED)
        elif set(parts_of) & _CHANGES and (len(parts_of) == 1 or column.name.lower().endswith(_TIMES) or re.match(
                r"(?i)date|time", column.declared)) and not re.search(r"(?i)bool|tinyint", column.declared):
            yield table.name, column.name, str(NEWEST)
        elif any(isinstance(row[column.name], str) and _LINES.search(str(row[column.name])) and not may_be_structure(
                row[column.name]) for row in rows if column.name in row):
            yield table.name, column.name, str(TEXT)


def _is_told(profile: Profile, place: Place, table: Table) -> bool:
    """Whether a profile says what stands at a place: as a reference, or, in markup, by patterns for that column."""
    where = dict(place.where)
    if profile.closes(place, table.column(place.column)) or (place.path and shapes.is_standard(place.path[-1])):
        return True
    if any(n.path and fits(n.path, place.path) for n in profile.numbers_in(place.table, place.column)):
        return True
    for r in profile.references_of(place.table):
        if r.column == place.column and holds(
                tuple((c, declared) for c, declared in r.where if c in where), where):
            if r.pattern is not None and r.path is None and place.path[-1:] and place.path[-1].startswith("@"):
                return True
            if r.pattern is None and fits(r.path or (), place.path) and (where or not r.where):
                return True
    return False


def _echoed(table: Table, rows: Sequence[Row], findings: Sequence[Finding], profile: Profile) -> list[Finding]:
    """What leaves that repeat a column of their row point at: what the column does, or the row itself."""
    echoing = []
    known = {f.place for f in findings if f.certainty is Certainty.SURE}
    for place, column, bits in echoes(table, rows):
        if bits < SURE or place in known or _is_told(profile, place, table):
            continue
        why = (f"{bits:+.0f} bits: it holds what {column} does, in every row",)
        if table.surrogate and (column,) == table.key:
            echoing.append(Finding(place, Certainty.SURE, table.name, why))
        echoing += [Finding(replace(place, where=r.where), Certainty.SURE, r.to, why) for r in profile.references
                  if r.table == table.name and r.column == column and r.is_key]
        echoing += [Finding(replace(place, where=f.place.where), Certainty.SURE, f.to, why) for f in findings
                  if f.certainty is Certainty.SURE and f.place.table == table.name and f.place.column == column
                  and not f.place.path]
    return list({f.place: f for f in echoing}.values())


def _trees(database: Database, tables: Iterable[Table], samples: Mapping[str, Sequence[Row]], sure: Sequence[Finding]
           ) -> Iterable[RowTree]:
    for table in tables:
        tree = tree_of(database, table, samples[table.name], _upward(table, sure))
        if tree is not None:
            yield tree


def _upward(table: Table, sure: Sequence[Finding]) -> list[str]:
    """The columns of a table that point at the table itself."""
    return sorted({c for fk in table.foreign_keys if fk.target == table.name for c in fk.columns} | {
        f.place.column for f in sure if f.place.table == f.to == table.name and not f.place.path and not f.place.where})


def _titles(table: Table, tables: Mapping[str, Table], samples: Mapping[str, Sequence[Row]], profile: Profile
            ) -> dict[str, dict[str, str]]:
    """What the rows are called that a column of types points at, where these are rows of a table themselves."""
    titles: dict[str, dict[str, str]] = {}
    for r in profile.references:
        target_table = tables.get(r.to)
        if r.table == table.name and r.path is None and r.pattern is None and (
                target_table is not None and target_table.surrogate):
            texts = [c for c in target_table.stored if isinstance(next((row[c] for row in samples[r.to]), None), str)]
            titles[f"{table.name}.{r.column}"] = {
                str(row[target_table.key[0]]): " ".join(str(row[c]) for c in texts) for row in samples[r.to]}
    return titles


def _structures(table: Table, rows: Sequence[Row]) -> Iterable[tuple[str, str]]:
    """The columns whose texts are all structures; of a table of keys and values, one in which some are."""
    pair = key_columns(table)
    for column in table.columns:
        texts = [row[column.name] for row in rows if row.get(column.name) not in (None, "")][:_STRUCTURES]
        enough = any if pair and column.name == pair[1] else all
        if texts and not column.is_json and enough(
                isinstance(t, str) and t[:1] in ("{", "[", "a", "O") and read(t) is not None for t in texts):
            yield table.name, column.name


def _name(table: Table, rows: Sequence[Row]) -> tuple[str, ...]:
    """The columns whose values say when two rows born apart are one: unique, and not merely given out in turn."""
    for unique in table.uniques:
        if set(unique) != set(table.key) and set(unique) <= set(table.stored) and not _given_out(table, unique, rows):
            return unique
    return ()


def _given_out(table: Table, unique: Sequence[str], rows: Sequence[Row]) -> bool:
    """Whether unique values come in the order of the rows' own numbers, or are numbers, or places in a tree."""
    if len(unique) != 1:
        return all(words.says_measure(c) for c in unique)
    values = [(row[table.key[0]], row[unique[0]]) for row in rows if row[unique[0]] is not None]
    texts = [str(v) for _, v in values]
    if words.says_measure(unique[0]) or ("path" in words.words(unique[0]) and texts and all(map(_PLACE.fullmatch,
                                                                                                texts))):
        return True
    digits = [re.sub(r"\D", "", t) for t in texts]
    if not texts:
        return words.says_id(unique[0]) or "number" in unique[0].lower()
    if not all(digits) or any(len(re.sub(r"\d", "", t)) > 6 for t in texts):
        return False
    if words.says_name(unique[0]):
        return False
    if all(isinstance(v, int) for _, v in values):
        return True
    if len(texts) < _FEW:
        return False
    numbers = [int(d) for _, d in sorted(zip([int(str(k)) for k, _ in values], digits, strict=True))]
    rising = sum(a <= b for a, b in pairwise(numbers))
    return len({len(re.sub(r"\d", "", t)) for t in texts}) == 1 and rising >= 0.95 * (len(numbers) - 1)


def with_answers(learned: Layer, answers: Layer) -> Layer:
    """What was learned, without what an answer says otherwise, and with what follows from that: what points at a kind
    that is said to be visitors' is theirs, too; what was theirs by pointing at one that is not, is not."""
    answered = {(r.table, r.column, r.where, r.path) for r in answers.references} | {
        (p.table, p.column, p.where, p.path or None) for p in answers.numbers}
    named = (*answers.editors, *answers.visitors)
    visitors, editors = _follows(learned, answers)
    return replace(learned, made=tuple(t for t in learned.made if not matches(t, named)), visitors=visitors,
                   editors=editors, accounts=tuple(k for k in learned.accounts if not matches(k, named)),
                   references=tuple(r for r in learned.references
                                    if (r.table, r.column, r.where, r.path) not in answered),
                   numbers=frozenset(p for p in learned.numbers
                                     if (p.table, p.column, p.where, p.path or None) not in answered))


def _follows(learned: Layer, answers: Layer) -> tuple[tuple[str, ...], tuple[str, ...]]:
    """Whose kinds are by what was answered: visitors', and editors'."""
    named = (*answers.editors, *answers.visitors)
    free = {k for k in (*learned.visitors, *learned.editors) if not matches(k, named)}
    theirs = {k for k in learned.below if matches(k, answers.visitors)}
    ours = {k for k in (*learned.visitors, *learned.editors) if matches(k, answers.editors)}
    for _ in range(len(free) + 1):
        theirs |= {k for k in free if set(learned.below.get(k, ())) & theirs}
        ours |= {k for k in free - theirs if learned.hung.get(k) in ours}
    rest = free - theirs - ours
    return (tuple(k for k in dict.fromkeys((*learned.visitors, *learned.editors))
                  if k in theirs & free or (k in rest and k in learned.visitors)),
            tuple(k for k in dict.fromkeys((*learned.editors, *learned.visitors))
                  if k in ours & free or (k in rest and k in learned.editors)))
