"""The portable form of rows: whatever is merely local to one side replaced with neutral tokens, and back.

Local are the base URL, in all its forms, and ids, which are replaced wherever the profile or the schema says that a
column, a path inside a structured value or a pattern inside a text holds one.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Iterable, Iterator, Mapping
from copy import copy
from typing import Any, cast

from nostos.core.anchor.names import Keys
from nostos.core.compare.places import Places
from nostos.core.database.schema import Row, Table, Value
from nostos.core.expressions import expression
from nostos.core.profiles.conditions import holds
from nostos.core.profiles.model import Profile
from nostos.core.profiles.parts import Reference
from nostos.core.records import dataclass
from nostos.core.values import names, rewriting, shapes, structures
from nostos.core.values import references as refs
from nostos.core.values.literals import needed
from nostos.core.values.structures import StructuredValue
from nostos.core.values.tokens import CLOSE, OPEN, escape, unescape
from nostos.core.values.urls import UrlForms

Portable = dict[str, Any]  # column -> None, number, text with tokens, bytes or Tree
Number = Callable[[str, str], Value]  # (table, canonical name) -> the key to write


def plain(form: Mapping[str, Any]) -> Row:
    """A portable row with its structures as text: for conditions on its columns, not for writing."""
    if isinstance(form, Deferred):
        return dict(form.raw)
    return {c: v.text() if isinstance(v, StructuredValue) else v for c, v in form.items()}


class Deferred(Mapping[str, Any]):
    """The portable form of a row that only one side has: a column is translated when it is asked for. raw: the row as
    that side has it."""

    __slots__ = ("_table", "_translator", "raw")

    def __init__(self, translator: Translator, table: str, raw: Row) -> None:
        self._translator, self._table, self.raw = translator, table, raw

    def __getitem__(self, column: str) -> Any:
        return self._translator.value(self._table, self.raw, column)

    def __iter__(self) -> Iterator[str]:
        return iter(self.raw)

    def __len__(self) -> int:
        return len(self.raw)


# Neither an address nor a structure, nor long enough to hold one in base64.
_DULL = expression(r"(?:[A-Za-z0-9 _-]{0,23}|\d{4}-\d\d-\d\d \d\d:\d\d:\d\d)\Z").match


def _is_plain(value: Value) -> bool:
    """Whether a value is itself and nothing else, where nothing is said of it."""
    return _DULL(value) is not None if isinstance(value, str) else not isinstance(value, bytes)


Joiner = Callable[[str, Row], Row]  # what a row of a table is joined to
Above = Callable[[str, str, str], str]  # (table, column, canonical name) -> that row's value, which others begin with
_ID = expression("[1-9]")  # no text without one refers to a row
PREFIX = f"{OPEN}p{CLOSE}"  # stands for the table prefix at the beginning of a name


def _ids(match: re.Match[str], many: bool) -> list[tuple[int, int]]:
    """Where the ids are that a pattern found."""
    if not many:
        return [match.span(1)]
    start = match.start(1)
    return [(start + m.start(), start + m.end()) for m in re.finditer(r"\d+", match.group(1))]


class Unresolved(Exception):
    """A token names a row that the target side does not have (yet)."""

    def __init__(self, table: str, name: str) -> None:
        super().__init__(f"{table} {name}")
        self.table = table
        self.name = name


@dataclass(frozen=True)
class _PortableColumn:
    whole: tuple[Reference, ...]
    paths: tuple[Reference, ...]
    patterns: tuple[Reference, ...]


def number_by(keys: Keys) -> Number:
    """Looks canonical names up among one side's keys. What it gives raises Unresolved for a row that is not there."""
    def number(table: str, name: str) -> Value:
        key = keys.key(table, name)
        if key is None:
            raise Unresolved(table, name)
        return key

    return number


class Translator:
    """Turns one side's rows into portable form. The other direction is `write_row`, for any side."""

    def __init__(self, profile: Profile, tables: Mapping[str, Table], urls: UrlForms, keys: Keys, prefix: str = "",
                 join: Joiner = lambda table, row: {}, places: Places | None = None) -> None:
        self._profile = profile
        self._prefix = prefix
        self._join = join
        self._places = places
        self._by_itself: dict[str, bool] = {}
        self._bare_columns: dict[str, frozenset[str]] = {}
        self._tables = tables
        self.urls = urls
        self.keys = keys
        self._columns: dict[tuple[str, str], _PortableColumn] = {}
        self.files: Mapping[str, tuple[str, frozenset[Value]]] = {}  # whose rows hold names of files alone, by a column
        for r in profile.references:
            if r.to and r.to_column is None and r.to in tables and tables[r.to].surrogate:
                now = self._columns.get((r.table, r.column), _PortableColumn((), (), ()))
                if r.path:
                    now = _PortableColumn(now.whole, (*now.paths, r), now.patterns)
                elif r.pattern:
                    now = _PortableColumn(now.whole, now.paths, (*now.patterns, r))
                else:
                    now = _PortableColumn((*now.whole, r), now.paths, now.patterns)
                self._columns[r.table, r.column] = now

    @property
    def places(self) -> Places | None:
        return self._places

    def on(self, database: Any) -> Translator:
        """The same, but what rows are joined to is looked up in this database: the one that it was made with may be
        closed by now."""
        twin = copy(self)
        rebound = getattr(self._join, "on", None)
        if rebound is not None:
            twin._join = rebound(database)
        if self._places is not None:
            twin._places = self._places.on(database)
        return twin

    def deferred(self, table: str, row: Row) -> Portable:
        """The portable form of a row that only one side has, to be worked out where it is needed, if all that it needs
        is in the row itself."""
        if not self._alone(table):
            return self.row(table, row)
        return cast(Portable, Deferred(self, table, row))

    def _alone(self, table: str) -> bool:
        known = self._by_itself.get(table)
        if known is None:
            profile = self._profile
            known = self._by_itself[table] = not (
                any(j.table == table for j in profile.joins) or profile.placed_in(table)
                or (self._prefix and any(t == table for t, *_ in profile.prefixed)))
        return known

    def expect(self, table: str, rows: Iterable[Row]) -> None:
        """Look up what these rows are joined to in one pass: they will be asked for."""
        prefetch = getattr(self._join, "prefetch", None)
        if prefetch is not None:
            prefetch(table, rows)

    def row(self, table: str, row: Row) -> Portable:
        """The portable form of a row."""
        full, value = self.full(table, row), self.value
        bare = self._bare(table) if table not in self.files else ()
        return {c: v if c in bare and _is_plain(v) else value(table, full, c) for c, v in row.items()}

    def _bare(self, table: str) -> frozenset[str]:
        """The columns of a table in which nothing is ever anything but itself, unless a long text holds an address."""
        known = self._bare_columns.get(table)
        if known is None:
            profile, columns = self._profile, self._tables[table].names if table in self._tables else ()
            settings = profile.settings
            told = {*self._columns, *((n.table, n.tells) for n in profile.nested),
                    *((p.table, p.column) for p in profile.pieces), *((s.table, s.column) for s in profile.slugs),
                    *((table, c) for c in profile.placed_in(table)),
                    *((t, c) for t, c, _ in profile.prefixed if self._prefix),
                    *([(settings.table, settings.value)] if settings is not None else ())}
            known = self._bare_columns[table] = frozenset(c for c in columns if (table, c) not in told)
        return known

    def full(self, table: str, row: Row) -> Row:
        """A row with what it is joined to, for telling its kind and its references."""
        return {**row, **self._join(table, row)}

    def value(self, table: str, row: Row, column: str) -> Any:
        """The portable form of one column of a row."""
        result = self._value(table, row, column)
        if self.files and table in self.files and row.get(self.files[table][0]) in self.files[table][1]:
            return self.urls.called.within(result, self.urls.staging)
        settings = self._profile.settings
        if self.urls.called.numbers and settings is not None and (table, column) == (settings.table, settings.value):
            name = str(row[settings.name])
            result = self.urls.called.numbered(result, name, self.urls.staging)
            for rule in self._profile.numbered:
                if rule.mentions == name:
                    result = self.urls.called.mentioned(result, rule.strip, self.urls.staging)
        return result

    def _value(self, table: str, row: Row, column: str) -> Any:
        value = row[column]
        spots = self._columns.get((table, column))
        if column in self._bare(table) and _is_plain(value):
            return value
        if isinstance(value, bytes):
            return self._in_bytes(table, row, column, value, spots)
        if value is None or isinstance(value, float):
            return value
        if self._places is not None:
            placed = self._placed(self._places, table, row, column) if isinstance(value, str) else self._nested(
                self._places, table, row, column)
            if placed is not None:
                return placed
        both = self.keys.called(table, column, row.get(self._tables[table].key[0])) if isinstance(value, str) else None
        if both is not None and both[self.urls.staging] == value:
            return names.token(*both)
        if spots:
            for r in spots.whole:
                if holds(r.where, row):
                    named = self._named(r, value)
                    if named is not None:
                        return named
        piece = self._profile.piece_of(table, row, column, self.urls.host) if self._profile.pieces else ""
        token = self.urls.piece_token(piece, value) if piece else None
        if token is not None or isinstance(value, int):
            return value if token is None else token
        if self._prefix and value.startswith(self._prefix) and self._profile.bears_prefix(
                table, column, value[len(self._prefix):]):
            return PREFIX + escape(value[len(self._prefix):])
        return self._in_columns_text(table, row, column, value, spots)

    def _in_bytes(self, table: str, row: Row, column: str, value: bytes, spots: _PortableColumn | None) -> Any:
        """What a column of bytes holds: a text or a structure, where something in it is local, or where it is merged
        key by key; else the bytes."""
        text = structures.text_in(value) if column not in self._tables[table].key else None
        if text is None:
            return value
        made = self._in_columns_text(table, row, column, text, spots)
        if not isinstance(made, StructuredValue):
            return value if made == escape(text) else StructuredValue(made, structures.InBytes())
        assert not isinstance(made.style, structures.InBytes)
        return StructuredValue(made.data, structures.InBytes(made.style))

    def _in_columns_text(self, table: str, row: Row, column: str, value: str, spots: _PortableColumn | None) -> Any:
        """The portable form of a column's text, which may be a structure."""
        policy = self._profile.policy(table, row, column)
        paths = tuple(r for r in spots.paths if holds(r.where, row)) if spots else ()
        patterns = tuple(r for r in spots.patterns if holds(r.where, row)) if spots else ()
        if policy.structured or any(not shapes.is_text_step(r.path[0]) for r in paths if r.path):
            tree = structures.read(value)
            if tree is not None:
                return self._tree(tree, paths, patterns)
        return self._within(value, paths, patterns)

    def _within(self, text: str, paths: tuple[Reference, ...], patterns: tuple[Reference, ...], at: structures.Path = ()
                ) -> Any:
        """A text that is no structure, or is one inside that nothing said: with its references as tokens. at: where it
        is, inside a structure."""
        inner = structures.from_base64(text) if paths else None
        if inner is not None:
            tree = structures.read(inner) if structures.may_be_structure(inner) else None
            made = self._within(inner, paths, patterns, at) if tree is None else self._tree(tree, paths, patterns, at)
            return text if made in (inner, tree) else StructuredValue(made, structures.Base64Style())
        return rewriting.opened(text, lambda part: self._text(part, patterns, paths, at))

    def _placed(self, places: Places, table: str, row: Row, column: str) -> str | None:
        """A value that begins with that of the row above in a tree, as that and the rest; None for any other."""
        tree = self._profile.tree_of(table)
        if tree is None or column not in tree.placed:
            return None
        above = places.above(tree, row, column)
        if above is None:
            return None
        key, head = above
        name = "" if key is None else self.keys.name(table, key)
        rest = str(row[column])[len(head):]
        own_key = row.get(self._tables[table].key[0])
        if tree.ids and column == tree.path and rest.strip(tree.separator) == str(own_key):
            return refs.above(table, column, name) + rest.replace(str(own_key), refs.token(
                table, self.keys.name(table, own_key), True))
        if column == tree.path and tree.step:
            rest = self.keys.step(table, own_key, rest)
        return refs.above(table, column, name) + escape(rest)

    def _nested(self, places: Places, table: str, row: Row, column: str) -> str | None:
        """A bound of a row's interval, as what it says: which row it is below; None for any other number."""
        tree = self._profile.nested_of(table)
        if tree is None or column != tree.tells:
            return None
        up = places.nests.above(tree, row[self._tables[table].key[0]])
        return refs.above(table, column, "" if up is None else self.keys.name(table, up))

    def _named(self, reference: Reference, value: Value) -> str | None:
        """The token for an id, when the value is one."""
        textual = isinstance(value, str)
        if isinstance(value, str):
            if not re.fullmatch(r"[1-9][0-9]*", value):
                return None
            value = int(value)
        if not isinstance(value, int) or isinstance(value, bool) or (value <= 0 and not reference.declared):
            return None
        return refs.token(reference.to, self.keys.name(reference.to, value), textual)

    def _patterned(self, patterns: tuple[Reference, ...], text: str, paths: tuple[Reference, ...], at: structures.Path
                   ) -> str:
        """The text with the ids replaced that patterns find, or that stand where paths lead; all are found before."""
        if not (patterns or paths) or not _ID.search(text):
            return text
        # Most patterns are told to find nothing by a word that they need.
        spots = sorted([(start, end, i) for i, r in enumerate(patterns)
                        if not (words := needed(r.pattern or "")) or any(w in text for w in words)
                        for m in re.finditer(r.pattern or "", text) for start, end in _ids(m, r.many)] + [
            (spot.start, spot.end, len(patterns) + i) for spot in (shapes.spots(text) if paths else ()) if spot.path
            for i, r in enumerate(paths) if r.pattern is None and structures.fits(r.path or (), (*at, *spot.path))])
        parts, done = [], 0
        for start, end, i in spots:
            named = self._named((*patterns, *paths)[i], text[start:end]) if start >= done else None
            if named is not None:
                parts += [text[done:start], named]
                done = end
        return "".join([*parts, text[done:]])

    def _tree(self, tree: StructuredValue, paths: tuple[Reference, ...], patterns: tuple[Reference, ...],
              at: structures.Path = ()) -> StructuredValue:
        """A structure with its references as tokens. at: where it is itself, inside another."""
        def leaf(path: structures.Path, value: Any) -> Any:
            whole = (*at, *path)
            here = [r for r in paths if structures.fits(r.path or (), whole)]
            for r in here:
                named = self._named(r, value) if r.pattern is None else None
                if named is not None:
                    return named
            if isinstance(value, str):
                longer = tuple(r for r in paths if len(r.path or ()) > len(whole))
                deeper = structures.read(value) if structures.may_be_structure(value) and longer else None
                if deeper is not None:
                    return self._tree(deeper, paths, patterns, whole)
                return self._within(value, longer, (*(r for r in here if r.pattern), *patterns), whole)
            return value

        def key(path: structures.Path, name: Any) -> Any:
            references = tuple(r for r in paths if r.path and r.path[-1][:1] == "{" and structures.fits(
                r.path[:-1], (*at, *path)))
            return self._key(name, references)

        return StructuredValue(structures.change(tree.data, leaf, key), tree.style)

    def _key(self, name: Any, references: tuple[Reference, ...]) -> Any:
        """The key of a map, with the references in it as tokens."""
        if not isinstance(name, str):
            named = next((n for r in references if r.path and r.path[-1] == "{#}" and (n := self._named(r, name))),
                         None)
            return name if named is None else named
        spots = [(spot, r) for step, spot in shapes.in_key(name) for r in references if r.path and r.path[-1] == step]
        if not spots:
            return self._text(name, ())
        spot, r = spots[0]
        named = self._named(r, name[spot.start:spot.end])
        return self._text(name, ()) if named is None else (
            self._text(name[:spot.start], ()) + named + self._text(name[spot.end:], ()))

    def _text(self, text: str, patterns: tuple[Reference, ...], paths: tuple[Reference, ...] = (),
              at: structures.Path = ()) -> str:
        return self.urls.to_tokens(self._patterned(patterns, escape(text), paths, at))


class ValueWriter:
    """Writes portable values for one side. number: gives that side's key of a row, or raises Unresolved. above: gives
    what a value takes over from another row's, or raises Unresolved."""

    def __init__(self, urls: UrlForms, number: Number, prefix: str = "", above: Above | None = None) -> None:
        self._above = above
        self._urls = urls
        self._prefix = prefix
        self._number = number

    def row(self, row: Portable) -> Row:
        """A row of portable values, as the target stores it. Raises Unresolved for a name that it has no number for
        yet."""
        return {column: self.value(value) for column, value in row.items()}

    def value(self, value: Any) -> Value:
        """The raw value of a column for this side. Raises Unresolved."""
        return rewriting.closed(value, self._leaf)  # type: ignore[no-any-return]

    def _leaf(self, value: str) -> Any:
        if OPEN not in value:  # every token begins with it
            return value
        named = refs.number(value)
        if named is not None:
            return self._number(*named)
        key = names.number(value, self._urls.staging)
        if key is not None:
            return key
        piece = self._urls.piece(value) if value.startswith(OPEN) else None
        return self._text(value) if piece is None else piece

    def _text(self, text: str) -> str:
        if text.startswith(PREFIX):
            return self._prefix + unescape(text[len(PREFIX):])
        up = refs.begun(text)
        if up is not None:
            if up.name and self._above is None:
                raise Unresolved(up.table, up.name)
            head = self._above(up.table, up.column, up.name) if up.name and self._above else ""
            return head + unescape(refs.write(up.rest, lambda table, name: str(self._number(table, name))))
        written = refs.write(text, lambda table, name: str(self._number(table, name)))
        return unescape(self._urls.from_tokens(written))


def named_rows(value: Any) -> set[refs.Named]:
    """The rows that a portable value points at by id."""
    return set(refs.inside(value))
