"""What a place of numbers is, weighed: evidence in bits, for each table that it may point at.

Each source is a function of its own. It gives log2 of how much more likely what is seen is if the place points at that
table than if it holds plain numbers (the weight of evidence: I. J. Good, *Probability and the Weighing of Evidence*,
1950). Sources are taken as independent; how far they are not is measured, and taken off (`scale`). Weights come from
`weights.toml`, which `calibration/` makes from real systems; no word and no single value decides.
"""

from __future__ import annotations

import math
import re
from collections import Counter
from collections.abc import Collection, Iterable, Iterator, Mapping, Sequence
from functools import lru_cache
from itertools import islice
from typing import Any

from nostos.core.database.protocol import Database
from nostos.core.database.schema import Column, Row, Table
from nostos.core.expressions import expression
from nostos.core.learning.bits import WEIGHTS, Evidence, TableKeys, Weighed, weight
from nostos.core.learning.findings import Certainty, Finding
from nostos.core.learning.kinds import Kinds, says
from nostos.core.learning.places import Held, is_link, is_text, key_columns
from nostos.core.learning.pointing_back import PointingBack
from nostos.core.profiles.frameworks import base_of
from nostos.core.profiles.parts import Reference
from nostos.core.profiles.places import Place
from nostos.core.values import words

_BY_VALUES = frozenset({"missed", "reach", "keys", "kinds", "seen"})
_ALIKE, _SHARED = 5.0, 0.25  # bits that places of one name give each other: at most, and which part of their own
_MOST = 14.0  # bits, that values alone may give: two tables may have the same numbers by their making
_NEW = 0.3  # how often what is new points at what is new, where it points at that table
_MAGNITUDES, _ROUND = 14.0, 0.05  # natural logarithm of the numbers that are written; how often a round one is this one
_FEW_MISSED = 0.1  # which part of values may be no keys of the table that they point at: what they pointed at has gone
_LIKELY = 16  # tables that a place may point at, whatever is found out later
_NEAR = 3.0  # bits below the likeliest, that are nearly as much
_COLUMNS, _COPIED = 4, 0.6  # columns of a row that is written down: how many must be there, and which part of all
_KIND = 0.83  # likeness of a name that is called as a kind of a table's rows
_NONE: set[Place] = set()
PointersAt = Mapping[tuple[str, str], Collection[tuple[frozenset[str], str]]]  # see `pointers`
Feature = tuple[str, str, float, tuple[Any, ...]]  # source, category, what its weight is multiplied with, why
YES_OR_NO = expression(r"(?i)bool|^tinyint\(1\)|^bit")  # types of columns


def are_people(table: Table) -> bool:
    """Whether rows are people who can log in, or be written to."""
    heads = {w for c in table.names for w in words.words(c)[-1:] if words.words(c)[0] not in words.ASKING}
    named = bool(set(words.words(table.name)) & words.PERSONS)
    return table.surrogate and bool(heads & {"login", "username", "nicename"} or (
        named and heads & {"email", "mail", "name", "password"}))


class Weigher:
    """Weighs places by the tables that there are."""

    def __init__(self, database: Database, tables: Mapping[str, Table], known: Iterable[Reference] = (),
                 samples: Mapping[str, Sequence[Row]] | None = None, pointers: PointersAt | None = None,
                 written: Collection[tuple[str, str]] = ()) -> None:
        """known: references, whose names tell of others that are called alike. samples: rows of the tables, as far as
        they are read already. pointers: what the system itself says. written: columns that hold rows, written down."""
        self._pointers = pointers or {}
        self._written = written
        self.every = dict(tables)
        self.tables = {n: t for n, t in tables.items() if t.surrogate}
        self.kinds = Kinds(database, {n: t for n, t in tables.items() if t.surrogate or len(t.key) > 1}, samples or {})
        self.links = {n for n, t in tables.items() if is_link(t, words.says_id)}
        self.people = {n for n, t in self.tables.items() if are_people(t)}
        self.bases: dict[str, list[str]] = {}
        for name in tables:
            base = base_of(tables, name)
            if base and base != name:
                self.bases.setdefault(base, []).append(name)
        self._by_column: dict[str, dict[tuple[str, ...], str]] = {}  # by table, by what is left of a column's name
        self._told: dict[tuple[str, ...], dict[Place, str]] = {}
        self._popular: dict[str, set[Place]] = {}  # by table: the places that are known to point at it
        self._goals: dict[Place, set[str]] = {}  # and the other way round
        self._known_places = 0
        self._back = PointingBack(database, self.tables, samples or {})
        self._ways: dict[tuple[str, str], set[str]] = {}  # by two tables: the columns of one that point at the other
        self._by_end: dict[str, list[tuple[str, str]]] = {}  # by a name's last word: tables, and what they are called
        for name in self.tables:
            for called in (name, *self.bases.get(name, ())):
                self._by_end.setdefault(words.last_of(called), []).append((name, called))
        for r in known:
            if r.is_key and r.to in self.tables:
                self._know(Place(r.table, r.column, r.where), r.column, r.to)
                if not r.where:
                    self._by_column.setdefault(r.table, {})[words.pointing(r.column)] = r.to
        self._beside: dict[tuple[str, ...], dict[str, float]] = {}  # by name: what values say of each table, in bits
        self._own_bits: dict[Place, dict[str, float]] = {}  # and what of it is each place's own
        self._likely: dict[Place, list[str]] = {}  # tables that a place may point at, whatever else is found out
        self._owners: dict[str, str] = {}
        self._keys: dict[str, TableKeys] = {}
        self._names: dict[tuple[str, str, str], dict[str, float]] = {}
        self._database = database
        self.names_speak = self._names_speak()

    def _know(self, place: Place, name: str, goal: str) -> None:
        if words.pointing(name):
            self._told.setdefault(words.pointing(name), {})[place] = goal
        if place not in self._popular.setdefault(goal, set()):
            self._popular[goal].add(place)
            if not place.path and not place.where:
                self._ways.setdefault((place.table, goal), set()).add(place.column)
            self._goals.setdefault(place, set()).add(goal)
            self._known_places += 1

    def _forget(self, place: Place, name: str) -> None:
        self._told.get(words.pointing(name), {}).pop(place, None)
        for goal in self._goals.pop(place, ()):
            self._popular[goal].discard(place)
            self._ways.get((place.table, goal), set()).discard(place.column)
            self._known_places -= 1

    def know(self, seen: Iterable[tuple[Place, str, Held]]) -> None:
        """Take up places: what is called alike points alike, and what is pointed at is pointed at again. Each with its
        name and what it holds."""
        some = list(seen)
        names = Counter(words.pointing(name) for _, name, _ in some)
        for place, name, held in some:
            weighed = self.weigh(place, name, held, self._likely.get(place))
            if held.numbers:  # else nothing but its name tells one table from another
                self._likely.setdefault(place, list(islice(weighed.tables, _LIKELY)))
            self._forget(place, name)  # what else is known by now may speak against it
            if weighed.sure() and held.numbers:  # else it would only repeat what others of its name say
                self._know(place, name, weighed.best)
            if words.pointing(name) and names[words.pointing(name)] > 1 and place not in self._own_bits:
                self._own_bits[place] = {goal: sum(e.bits for e in reasons if e.source in _BY_VALUES)
                                         for goal, (_, reasons) in weighed.tables.items()}
                every = self._beside.setdefault(words.pointing(name), {})
                for goal, bits in self._own_bits[place].items():
                    every[goal] = every.get(goal, 0.0) + bits

    def _alike_elsewhere(self, place: Place, beside: Mapping[str, float], goal: str) -> float:
        """What the values at other places of this name say of a table, in bits: a part of it, for they are alike."""
        others = beside.get(goal, 0.0) - self._own_bits.get(place, {}).get(goal, 0.0)
        return max(-_ALIKE, min(_ALIKE, others * _SHARED))

    def _owner(self, table: str) -> str:
        """The table that a table is called after, as `album_translations` is after `albums`."""
        if table not in self._owners:
            mine = words.words(table)
            after = [t for t in self.tables if t != table and (theirs := words.words(t)) and len(theirs) < len(mine)
                     and mine[:len(theirs)] == theirs and t not in self.links]
            self._owners[table] = max(after, key=lambda t: len(words.words(t)), default="")
        return self._owners[table]

    def declared_goal(self, place: Place, name: str) -> str:
        """What every other place points at that is called so; empty where none is known, or they do not agree."""
        return self._agreed(place, words.pointing(name))

    def _agreed(self, place: Place, name: tuple[str, ...]) -> str:
        known = self._told.get(name)
        if not known:
            return ""
        goals = {goal for at, goal in known.items() if at is not place and at != place}
        return goals.pop() if len(goals) == 1 else ""

    def copied(self, keys: Collection[str], name: str) -> frozenset[str]:
        """What a leaf may point at of a map that is a row, written down: its keys are a table's columns, as where
        versions of rows are kept. What says no more than that it is a row's number is that row's own."""
        if not words.pointing(name):
            return frozenset(t for t in self._rows_like(keys) if t in self.tables)
        goals = {self._by_column.get(t, {}).get(words.pointing(name)) for t in self._rows_like(keys)} - {None}
        return frozenset(map(str, goals))

    def copies_a_number(self, keys: Collection[str], name: str) -> bool:
        """Whether a leaf is a column that points nowhere, of a row that is written down."""
        if not words.pointing(name):
            return False  # the row's own number
        like = [t for t in self._rows_like(keys) if words.pointing(name) in map(words.pointing, self.every[t].stored)]
        return bool(like) and not any(words.pointing(name) in self._by_column.get(t, {}) for t in like)

    def _rows_like(self, keys: Collection[str]) -> Iterator[str]:
        """The tables whose rows a map of these keys may be."""
        others = {words.pointing(k) for k in keys}
        for name, table in self.every.items() if others else ():
            columns = [words.pointing(c) for c in table.stored if c not in table.key]
            shared = sum(c in others for c in columns)
            if columns and shared >= min(_COLUMNS, len(columns)) and shared >= _COPIED * len(columns):
                yield name

    def _said_by_system(self, place: Place, goal: str) -> Evidence | None:
        """What the system's own list of what points at what says of a place and a table; None where it does not."""
        known = self._pointers.get((place.table, place.column), ())
        steps = {part for step in place.path for part in step.split("@")}
        goals = {to for path, to in known if path <= steps}
        if not known or not place.path or any(not path for path, _ in known) or len(goals) > 1:
            return None  # it does not say where in the column
        if not goals:
            return Evidence("system", weight("system", "no"), ("the system itself says of {}.{} what it points at, and "
                                                               "not of this", place.table, place.column))
        return Evidence("system", weight("system", "yes" if goals == {goal} else "other"), (
            "the system itself says that it points at {}", *goals))

    def _known(self, table: str, place: Place) -> int:
        """How many other places are known to point at a table."""
        some = self._popular.get(table, _NONE)
        return len(some) - (place in some)

    def _prior(self, place: Place, goal: str) -> float:
        """log2 of how likely a table is the one which is pointed at, where one is: the more known places point at it,
        the more (Laplace's rule of succession)."""
        every = len(self.tables) + self._known_places - len(self._goals.get(place, _NONE))
        return math.log2((1 + self._known(goal, place)) / every)

    def _names_speak(self) -> bool:
        """Whether names of columns are those of tables on this site at all: where none is, names say nothing."""
        alike = {t for t in self.tables for other in self.every.values() for c in other.stored
                 if (other.name != t or c not in other.key) and (
                     words.likeness(words.without_name(c), t, other.name) >= 0.8
                     or (t in self.people and words.says_person(c)))}
        return len(alike) >= max(1, 0.04 * len(self.tables))

    def keys(self, table: str) -> TableKeys:
        """The keys of a table, read once."""
        if table not in self._keys:
            self._keys[table] = TableKeys(self._database, self.tables[table])
        return self._keys[table]

    # --- the sources

    def features(self, place: Place, name: str, seen: Held, goal: str) -> Iterator[Feature]:
        """What is seen of a place and a table that it may point at."""
        yield from self._of_place(place, seen)
        yield from self._of_table(place, name, seen, goal)

    def _of_place(self, place: Place, seen: Held) -> Iterator[Feature]:
        """What is seen of a place, whichever table it may point at."""
        table = self.every.get(place.table)
        column = table.column(place.column) if table is not None else None
        yield "form", self._form(place, column), 1, ("how such places are used",)
        if table is not None and column is not None and not place.path:
            if not _holds_text(column):
                yield "default", self._default(column.nullable, column.default), 1, (
                    ("it may be empty",) if column.nullable else ("it may not be empty; default {}", column.default))
            if not place.where or not _holds_text(column):
                led = table.indexed(place.column)
                yield "index", "yes" if led else "no", 1, (("an" if led else "no") + " index leads to it",)
        every = seen.other + sum(seen.numbers.values())
        share = seen.other / every if every else 0.0
        yield "words", "most" if share > 0.5 else "some" if share > 0.1 else "few" if share else "none", 1, (
            "{:.0%} of its values are no numbers", share)
        flags = bool(seen.numbers) and not set(seen.numbers) - {1}
        yield "seen", "ones" if flags else "some" if seen.numbers else "nothing", 1, (
            ("it holds nothing but 1",) if flags else ("it holds {} different numbers", len(seen.numbers)))

    def _of_table(self, place: Place, name: str, seen: Held, goal: str,
                  declared: str | None = None) -> Iterator[Feature]:
        """What is seen of a place beside a table. declared: what is known of other places of this name."""
        table = self.every.get(place.table)
        column = table.column(place.column) if table is not None and not place.path else None
        if column is not None and not _holds_text(column):
            yield "type", self._type(column.declared, goal), 1, ("its type, {}, beside the key's", column.declared)
        if place.where and self._form(place, None) == "typed":
            alike = goal in self._alike(name, "", place.table)
            yield "said", "yes" if alike else "no", 1, (
                "the column beside it says {}" if alike else "the column beside it says {}, which is not {}",
                place.where[-1][1], goal)
        if self.names_speak:
            tier, why = self.name(place, name, goal, declared)
            yield "name", tier, 1, (why, name, goal)
        yield from self._values(seen, goal)

    def _form(self, place: Place, column: Column | None) -> str:
        if place.path:
            last = place.path[-1]
            if last[:1] in ("{", "@"):
                return "key" if last[:1] == "{" else "attribute"
            if last[:1] == "~":
                if not re.search(r"[\w-]#\W?$", last):
                    return "address"
                return "name" if self._names_rows(place) else "ending"
            return "leaf"
        if place.where:
            pair = key_columns(self.every[place.table]) if place.table in self.every else None
            return "setting" if pair and place.column == pair[1] else "typed"
        if column is None or not _holds_text(column):
            return "number"
        return "name" if self._names_rows(place) else "text"

    def _names_rows(self, place: Place) -> bool:
        """Whether a column is what tells rows of its table apart, alone or with others."""
        table = self.every.get(place.table)
        return table is not None and not (table.surrogate and place.column in table.key) and (
            any(place.column in u for u in (*table.uniques, table.key)) or any(
                "UNIQUE" in ddl.upper() and re.search(rf"\W{re.escape(place.column)}\W", ddl)
                for _, ddl in table.indexes))

    def _type(self, declared: str, goal: str) -> str:
        key = self.tables[goal].column(self.tables[goal].key[0])
        mine, theirs = _bare(declared), _bare(key.declared if key is not None else "")
        if YES_OR_NO.search(declared):
            return "yes or no"
        if any(w in mine for w in ("small", "tiny")) and "small" not in theirs:
            return "small"
        return "same" if mine == theirs else "unsigned" if "unsigned" in mine else "other"

    @staticmethod
    def _default(nullable: bool, default: str | None) -> str:
        if default is not None and default.strip("'\"() ").upper() not in ("NULL", ""):
            return "zero" if default.strip("'\"() ") == "0" else "some"
        return "empty" if nullable else "none"

    def name(self, place: Place, name: str, goal: str, declared: str | None = None) -> tuple[str, str]:
        """What a name says of a table, and why."""
        inside = _last(place)
        alike = self._alike(name, inside, place.table)
        bits = alike.get(goal, 0.0)
        beside = bool(place.path) and place.path[-1][:1] in ("~", "{")  # a word with a number is no name of a number
        number = "+id" if words.says_id(name) and (alike or not beside) else ""
        if bits:
            own_key = goal == place.table and not place.path and not place.where
            rest = {t: likeness for t, likeness in alike.items() if t != place.table or place.path or place.where}
            best = [t for t, likeness in rest.items() if likeness == max(rest.values())]
            if own_key:  # its own table is named in every column of some
                return ("own, alone" if not rest else "own") + number, "`{}` is called as its own table is"
            if goal not in best:
                return "second" + number, "`{}` is called as another table is, more than as {}"
            tier = "same" if bits == 1 else "kind" if bits == _KIND else (
                "same in app" if bits >= 0.95 else "tail" if bits > 0.8 else "head")
            counts = " or measure" if not number and words.says_measure(name) else ""
            return tier + ("" if len(best) == 1 else " as others") + counts + number, (
                "`{}` is called as {} is")
        declared = self.declared_goal(place, name) if declared is None else declared
        if declared == goal:
            return "told", "`{}` is called as what points at {} elsewhere"
        if number and not declared and not alike and goal == self._agreed(place, words.pointing(name)[1:]):
            return "kind" + number, "`{}` ends as what points at {} elsewhere"  # old_status_id, beside status_id
        if goal == self._owner(place.table) and not alike:
            return "owner" + number, "its table is called after {1}"
        if goal in self.people and words.says_person(name):
            return "person" + number, "`{}` says a person, as {} are"
        if words.says_parent(name) and goal == place.table:
            return "parent", "`{}` says a row above, of {} itself"
        if declared or alike:
            return "other", "`{}` is called as another table is"
        if words.says_measure(name):
            return "measure", "`{}` says that it counts, measures or ranks"
        return ("id" if number else "none"), "`{}` says nothing of {}"

    def _alike(self, name: str, inside: str, owner: str) -> dict[str, float]:
        """The tables that a name is called as, and how much."""
        known = self._names.get((name, inside, owner))
        if known is None:
            known = self._names[name, inside, owner] = {}
            both = (name, inside) if inside else (name,)
            likely: dict[str, float] = {}
            for evidence in both:
                for end in words.ends(evidence) & self._by_end.keys():  # no name of another end is alike
                    for goal, called in self._by_end[end]:
                        likely[goal] = max(likely.get(goal, 0.0), words.likeness(evidence, called, owner))
            for goal in self.tables:
                if likely.get(goal, 0.0) >= (1.0 if goal in self.links else 0.8):
                    known[goal] = likely[goal]
                elif any(says(n, kind) for kind in self.kinds.named(goal) for n in both):
                    known[goal] = _KIND
        return known

    def _values(self, seen: Held, goal: str) -> Iterator[Feature]:
        """What the values say: whether they are keys of the table, and how likely plain numbers would be."""
        if not seen.numbers:
            return
        some = seen.some
        keys = self.keys(goal)
        hits = keys.among(some)
        missed = (len(some) - len(hits)) / len(some)
        many = _bin(len(some), (1, 4, 19))
        yield "missed", "none:" + _bin(keys.top, (3, 10, 50, 200, 1000)) if not missed else (
            f"some:{many}" if missed <= _FEW_MISSED else f"all:{many}" if not hits else f"many:{many}"), 1, (
            "{} of {} values are keys of {}, which go up to {}", len(hits), len(some), goal, keys.top)
        if missed:
            return
        reach = some[-1] / max(keys.top, 1)
        category = f"{many}:{_bin(reach, (0.05, 0.3, 0.8, 1.0))}"
        yield "reach", category, 0.5 if weight("reach", category) > 0 else 0.25, (
            "its {} values reach {:.0%} of the way to the newest of {}", len(some), reach, goal)
        dense = keys.density(some[0], some[-1]) if len(some) > 1 else keys.density(1, keys.top)
        bits = sum(-math.log2(max(dense, 0.02, _popular(n))) for n in some)
        if bits >= 0.1:
            yield "keys", "bit", min(bits, _MOST), ("all {} values are keys of {}, which has gaps", len(some), goal)
        where = self.kinds.of(goal)
        kinds = self.kinds.among(goal, some) if where is not None else {}
        if where is not None and len(kinds) == 1 and sum(kinds.values()) == len(some):
            kind, count = next(iter(kinds.items()))
            share = self.kinds.share(goal, kind, some[0], some[-1])
            yield "kinds", "bit", min(-count * math.log2(max(share, 0.02)), _MOST), (
                "all {} values are {} rows of {}", len(some), kind, goal)

    # --- weighing

    def weigh(self, place: Place, name: str, seen: Held, goals: Iterable[str] | None = None,
              fresh: Collection[int] = (), born: Mapping[str, Collection[int]] | None = None,
              copied: Collection[str] = ()) -> Weighed:
        """Weigh a place for each table, or for some. name: what says what it is. seen: what it holds. fresh: what of it
        is new, and the number of a new row; born: the numbers of new rows, by table. copied: as `copied` says."""
        weighed = {}
        scale, odds = float(WEIGHTS["scale"]["bits"]), float(WEIGHTS["scale"]["prior"])
        declared = self.declared_goal(place, name)
        other = ""
        if goals is None and not fresh:
            goals = self._worth_weighing(place, name, seen)
            other = goals[-1] if goals and not seen.numbers else ""
        if goals is not None and declared and declared not in goals:
            goals = [*goals, declared]
        always = [Evidence(f[0], weight(f[0], f[1]) * f[2] * scale, f[3]) for f in self._of_place(place, seen)
                  if not fresh or f[:2] != ("seen", "nothing")]
        beside = self._beside.get(words.pointing(name), {})
        for goal in self.tables if goals is None else (g for g in goals if g in self.tables):
            known = self._known(goal, place)
            reasons = [Evidence("prior", odds + self._prior(place, goal), (
                ("one of {} tables; {} known places point at it" if known else "one of {} tables"),
                len(self.tables), known)), *always]
            reasons += [Evidence(f[0], weight(f[0], f[1]) * f[2] * scale, f[3])
                        for f in self._of_table(place, name, seen, goal, declared)]
            ways = self._ways.get((goal, place.table))
            if ways and goal != place.table and place.table in self.tables and not place.path and not place.where:
                bits, led, by = self._back.bits(place.table, place.column, goal, ways)
                if led:
                    reasons.append(Evidence("back", min(bits, _MOST), (
                        "the {} of {} rows of {} lead back to them", by, led, goal)))
            evidence = self._said_by_system(place, goal)
            if evidence is not None:
                reasons.append(evidence)
            if goal in copied:
                reasons.append(Evidence("copied", weight("copied", "written" if (
                    place.table, place.column) in self._written else "yes"), (
                    "it is a row that is written down, whose column points at {}", goal)))
            if fresh:
                reasons += self._fresh(fresh, goal, born.get(goal, ()) if born else ())
            alike = self._alike_elsewhere(place, beside, goal) if beside else 0.0
            if alike:
                reasons.append(Evidence("alike", alike, ("what other places hold that are called `{}`", name)))
            weighed[goal] = sum(e.bits for e in reasons), tuple(reasons)
        ordered = dict(sorted(weighed.items(), key=lambda f: (-f[1][0], f[0])))
        rest = (len(self.tables) - len(weighed)) * 2.0 ** weighed[other][0] if other in weighed else 0.0
        return Weighed(ordered, 0.0 if self.names_speak else max(WEIGHTS["name"].values()) * scale, rest)

    def _worth_weighing(self, place: Place, name: str, seen: Held) -> list[str]:
        """The tables that a place is called after in any way, and those that its numbers are keys of; and one of the
        others, last: they are far from likely, and alike."""
        inside = _last(place)
        called = {*self._alike(name, inside, place.table), self._owner(place.table),
                  *(self.people if words.says_person(name) else ())}
        if words.says_parent(name):
            called.add(place.table)
        some = seen.some
        candidates = [t for t in self.tables if t in called or (
            some and len(self.keys(t).among(some)) >= (1 - _FEW_MISSED) * len(some))]
        known = {*candidates, self.declared_goal(place, name)}
        return [*candidates, *islice((t for t in self.tables if t not in known), 1)]

    def _fresh(self, fresh: Collection[int], goal: str, born: Collection[int]) -> Iterator[Evidence]:
        """What the new numbers at a place say of a table: that they are those of new rows there, or of none. Plain
        numbers are spread evenly over their orders of magnitude (S. Newcomb, 1881), and round ones are written often.
        """
        new = sum(n in born for n in fresh)
        chance = min(_NEW, sum(max(1 / (_MAGNITUDES * n), _ROUND if str(n) in WEIGHTS["popular"] else 0.0)
                               for n in born if n > 0))
        if new and chance:
            yield Evidence("born", min(_MOST, new * math.log2(_NEW / chance)), (
                "{} of its {} new numbers are those of new rows of {}", new, len(fresh), goal))
        none = len(fresh) - len(self.keys(goal).among(list(fresh)))
        if none:
            yield Evidence("missed", max(-_MOST, none * weight("missed", "all:<=1")), (
                "{} of its {} new numbers are no keys of {}", none, len(fresh), goal))

    def finding(self, place: Place, name: str, seen: Held) -> Finding | None:
        """What a place is, with its evidence; None where nothing stands there that could be a row's number."""
        column = self.every[place.table].column(place.column) if place.table in self.every else None
        if not seen.numbers and (seen.other or place.path or column is None or _holds_text(column)
                                 or YES_OR_NO.search(column.declared)):
            return None
        weighed = self.weigh(place, name, seen, self._likely.get(place))
        best = weighed.best
        if not best:
            return None
        if weighed.sure():
            return Finding(place, Certainty.SURE, best, weighed.reasons(best), seen.many, bits=weighed.odds(best))
        if weighed.is_plain():
            return Finding(place, Certainty.NONE, "", weighed.reasons(best))
        least = max(weighed.tables[best][0] - _NEAR, 0.0)
        near = tuple(t for t, (bits, _) in weighed.tables.items() if t != best and bits > least)
        return Finding(place, Certainty.OPEN, best, weighed.reasons(best), seen.many, "", weighed.odds(best), near)


def _last(place: Place) -> str:
    """What the last step to a place is called, without the marks of attributes, shapes and keys; empty for a column."""
    return place.path[-1].strip("@~{}#").partition("@")[0] if place.path else ""


def _holds_text(column: Column) -> bool:
    return is_text(column.declared) or column.kind in ("text", "other")


@lru_cache(maxsize=4096)
def _bare(declared: str) -> str:
    """A type without its length, and without what makes it a key's."""
    return re.sub(r"\(.*?\)|primary key|autoincrement|auto_increment", "", declared.lower()).strip()


@lru_cache(maxsize=65536)
def _bin(value: float, edges: tuple[float, ...]) -> str:
    return next((f"<={edge:g}" for edge in edges if value <= edge), f">{edges[-1]:g}")


@lru_cache(maxsize=65536)
def _popular(number: int) -> float:
    """How likely plain numbers are this one, where they reach it at all: small and round ones are written often."""
    table = WEIGHTS["popular"]
    if str(number) in table:
        return float(table[str(number)])
    return float(table["ten" if number <= 10 else "hundred" if number <= 100 else "thousand" if number <= 1000
                       else "more"])
