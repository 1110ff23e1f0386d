"""Masking: made-up values in the place of personal data, so that a staging copy can be shown to anybody.

The same original always becomes the same made-up value (a keyed digest of it chooses), so that what belonged together
still does; and nobody who has the copy alone can tell what it was. Rows of administrators stay as they are, for they
must be able to log in.
"""

from __future__ import annotations

import hashlib
import hmac
import re
import secrets
from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import field
from typing import Any

from nostos.core.database.protocol import Database
from nostos.core.database.schema import Column, Row, Table, Value
from nostos.core.expressions import expression
from nostos.core.patterns import matches
from nostos.core.profiles.conditions import holds
from nostos.core.profiles.model import Profile
from nostos.core.profiles.parts import MASK_KINDS, MaskRule
from nostos.core.records import dataclass

_FIRST = ("Ada", "Bela", "Cato", "Dena", "Emil", "Fay", "Gil", "Hedy", "Ivo", "Jana", "Kit", "Lena", "Milo", "Nia",
          "Otis", "Pia", "Quin", "Rhea", "Sol", "Tess", "Una", "Vito", "Wanda", "Xeno", "Yara", "Zeno")
_LAST = ("Amber", "Brook", "Cedar", "Dale", "Elm", "Fern", "Grove", "Heath", "Ivy", "Jasper", "Knoll", "Larch",
         "Meadow", "Nettle", "Oak", "Pine", "Quill", "Reed", "Sedge", "Thorn", "Umber", "Vale", "Willow", "Yarrow")
_STREETS = ("Lane", "Road", "Walk", "Row", "Hill", "Court")
_CITIES = ("Northfield", "Eastmoor", "Southbank", "Westvale", "Midbrook", "Upperton", "Lowmead", "Farholt")
_WORDS = ("a", "quiet", "word", "about", "the", "weather", "and", "some", "more", "of", "it", "stands", "here",
          "instead")
DOMAIN = "masked.example"

# What a column's name says of it, where no profile does.
_NAMES = ((r"e_?mails?|email_?address", "email"), (r"(first|given|fore)_?name", "first"),
          (r"(last|family|sur)_?name", "last"), (r"phone|tel|telephone|mobile|fax|phone_?(number|no)", "phone"),
          (r"ip|ip_?addr(ess)?|remote_?addr|user_?ip", "ip"), (r"(street|address|addr)(_?(line)?_?[12])?", "address"),
          (r"city|town", "city"), (r"zip|zip_?code|post_?code|postal_?code", "code"))
_NAMES_OF_PEOPLE = r"(full_?|customer_?|contact_?|display_?|user_?|author_?)?name"
_NOTES = r"(customer_?|order_?)?(notes?|remarks?|messages?)"
_LONG = expression(r"\((\d+)\)")


@dataclass(frozen=True)
class Recipe:
    """How a voyage's copy is masked, as the anchor remembers it: a secret key, and whose rows stay as they are."""

    secret: bytes
    keep: frozenset[Value]

    def data(self) -> dict[str, Any]:
        """The recipe as JSON holds it."""
        return {"secret": self.secret.hex(), "keep": [*self.keep]}

    @classmethod
    def of(cls, data: Mapping[str, Any] | None) -> Recipe | None:
        """The recipe that `data` gave; None where there is none."""
        return cls(bytes.fromhex(data["secret"]), frozenset(data["keep"])) if data else None


def recipe(profile: Profile, database: Database, tables: Mapping[str, Table]) -> Recipe:
    """A new recipe for a copy of this site."""
    keep: set[Value] = set()
    who = profile.administrators
    if who is not None and who.table in tables:
        columns = list(dict.fromkeys([who.key, *(c for c, _ in who.where)]))
        for values in database.scan(tables[who.table], columns):
            if holds(who.where, dict(zip(columns, values, strict=True))):
                keep.add(values[0])
    return Recipe(secrets.token_bytes(32), frozenset(keep))


@dataclass
class Mask:
    """Masks rows. counts: how many values of which columns were masked by `change`."""

    recipe: Recipe
    profile: Profile
    tables: Mapping[str, Table]
    counts: dict[str, int] = field(default_factory=dict)

    def __post_init__(self) -> None:
        self._rules = {name: tuple(self._rules_of(table)) for name, table in self.tables.items()}

    def touches(self, table: str) -> bool:
        """Whether rows of a table may be masked."""
        return bool(self._rules.get(table))

    def left_out(self, table: str) -> bool:
        """Whether a table's rows are not copied at all: sessions, caches and the like may hold anything."""
        return matches(table, self.profile.volatile)

    def columns(self, table: str, row: Mapping[str, Value]) -> dict[str, str]:
        """The columns of a row that are masked, and how."""
        columns: dict[str, str] = {}
        for rule in self._rules.get(table, ()):
            if rule.column not in columns and holds(rule.where, row) and not (
                    rule.owner and row.get(rule.owner) in self.recipe.keep):
                columns[rule.column] = rule.kind
        return columns

    def row(self, table: str, row: Row, whole: Mapping[str, Value] | None = None) -> Row:
        """A row, or some columns of one, with made-up values. whole: the row that they are of."""
        kinds = self.columns(table, {**(whole or {}), **row})
        columns = {c.name: c for c in self.tables[table].columns} if kinds else {}
        return {name: self.value(kinds[name], value, columns.get(name)) if name in kinds else value
                for name, value in row.items()}

    def change(self, table: Table, values: Sequence[Value]) -> tuple[Value, ...]:
        """The values of a whole row, in the order of its stored columns."""
        if not self._rules.get(table.name):
            return tuple(values)
        before = dict(zip(table.stored, values, strict=True))
        after = self.row(table.name, before)
        for name, value in after.items():
            if value != before[name]:
                at = f"{table.name}.{name}"
                self.counts[at] = self.counts.get(at, 0) + 1
        return tuple(after.values())

    def value(self, kind: str, value: Value, column: Column | None) -> Value:
        """The made-up value for one original; None and empty ones stay."""
        if value is None or value == "" or kind == "keep":
            return value
        if isinstance(value, bytes | float):
            return b"" if isinstance(value, bytes) else 0.0
        text = str(value)
        seed = hmac.new(self.recipe.secret, f"{kind}\0{text.strip().lower()}".encode("utf-8", "surrogateescape"),
                        hashlib.sha256).digest()
        made = _MAKERS[kind](seed, text)
        if isinstance(value, int):
            return int("".join(c for c in _digits(seed, text)) or 0)
        room = _LONG.search(column.declared) if column is not None else None
        return made[:int(room.group(1))] if room else made

    def _rules_of(self, table: Table) -> Iterator[MaskRule]:
        named = [m for m in self.profile.masks if m.table == table.name]
        yield from named
        if any(not m.where for m in named) or matches(table.name, self.profile.volatile):
            return
        kinds = [k for k in self.profile.kinds if k.table == table.name]
        visitors = any(k.visitors or self.profile.is_visitors(k.name) for k in kinds)
        known = any(k.table == table.name for k in self.profile.kinds if k.label != table.key) or any(
            c.table == table.name and not c.natural for c in self.profile.children)
        if named or (known and not visitors):
            return
        recognised_rules = list(recognised(table, visitors))
        yield from recognised_rules
        yield from (MaskRule(table.name, column, kind) for name, column, kind in self.profile.personal
                    if name == table.name and all(column != m.column for m in recognised_rules))


def recognised(table: Table, visitors: bool) -> Iterator[MaskRule]:
    """What the columns' own names say. A plain `name` is a person's where there is a mail address or a phone beside it.
    """
    kinds: dict[str, str] = {}
    free = [c for c in table.columns if not c.generated and c.name not in table.key and not any(
        c.name in fk.columns for fk in table.foreign_keys)]
    for column in free:
        for pattern, kind in _NAMES:
            if re.fullmatch(rf"(?:.*_)?(?:{pattern})", column.name.lower()):
                kinds[column.name] = kind
                break
    people = {"email", "phone", "first", "last"} & set(kinds.values())
    for column in free:
        if column.name not in kinds and people and re.fullmatch(_NAMES_OF_PEOPLE, column.name.lower()):
            kinds[column.name] = "name"
        elif column.name not in kinds and (visitors or people) and re.fullmatch(_NOTES, column.name.lower()):
            kinds[column.name] = "note"
    unique = {c for u in table.uniques for c in u}
    for name, kind in kinds.items():
        yield MaskRule(table.name, name, "login" if kind in ("name", "first", "last") and name in unique else kind)


def _pick(seed: bytes, at: int, among: Sequence[str]) -> str:
    return among[int.from_bytes(seed[at:at + 4]) % len(among)]


def _digits(seed: bytes, text: str) -> Iterator[str]:
    """The same text with other digits and letters, in the same places."""
    stream = b"".join(hashlib.sha256(seed + bytes([n])).digest() for n in range(len(text) // 32 + 1))
    for number, char in zip(stream, text, strict=False):
        if char.isdigit():
            yield str(number % 10)
        elif char.isalpha():
            yield chr((97 if char.islower() else 65) + number % 26)
        else:
            yield char


def _ip(seed: bytes, text: str) -> str:
    if ":" in text:
        return "2001:db8::" + ":".join(seed[n:n + 2].hex() for n in (0, 2))  # for documentation, RFC 3849
    return f"10.{seed[0]}.{seed[1]}.{seed[2]}"


def _note(seed: bytes, text: str) -> str:
    count = max(1, min(len(text.split()), 400))
    words = [_pick(hashlib.sha256(seed + n.to_bytes(2)).digest(), 0, _WORDS) for n in range(count)]
    return " ".join(words).capitalize() + "."


_MAKERS: Mapping[str, Callable[[bytes, str], str]] = {
    "name": lambda s, t: f"{_pick(s, 0, _FIRST)} {_pick(s, 4, _LAST)}",
    "first": lambda s, t: _pick(s, 0, _FIRST), "last": lambda s, t: _pick(s, 4, _LAST),
    "login": lambda s, t: f"member-{s[:6].hex()}", "email": lambda s, t: f"{s[:6].hex()}@{DOMAIN}",
    "phone": lambda s, t: "".join(_digits(s, t)), "code": lambda s, t: "".join(_digits(s, t)),
    "address": lambda s, t: f"{s[0] % 90 + 1} {_pick(s, 4, _LAST)} {_pick(s, 8, _STREETS)}",
    "city": lambda s, t: _pick(s, 0, _CITIES), "ip": _ip, "note": _note, "url": lambda s, t: f"https://{DOMAIN}/",
    "label": lambda s, t: f"{t.split()[0] if t.split() else ''} {s[:3].hex()}".strip(), "drop": lambda s, t: "",
}
assert frozenset(_MAKERS) | {"keep"} == MASK_KINDS
