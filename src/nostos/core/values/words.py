"""What the names of tables, columns and keys say: their words, and what these words are used for.

Names come in every style (`order_id`, `orderId`, `OrderID`, `tbl_orders`, `idOrder`, `fk_order`), singular and plural.
"""

from __future__ import annotations

import tomllib
from functools import lru_cache
from importlib import resources

from nostos.core.expressions import expression

_PARTS = expression(r"[A-Z]+(?=[A-Z][a-z])|[A-Z]?[a-z]+|[A-Z]+|[0-9]+")
_LISTS = tomllib.loads((resources.files(__package__) / "words.toml").read_text(encoding="utf-8"))


def listed(what: str) -> frozenset[str]:
    """The words that are used for something; see words.toml."""
    return frozenset(_LISTS[what].split())


# What ends in a mute e without its plural's s, though it looks otherwise.
_SPELLED = ("ouses", "auses", "movies", "cookies", "calories", "caches", "shoes")
_ENDINGS = (("uses", "us"), ("iases", "ias"), ("zzes", "z"), ("oes", "o"), ("ies", "y"), ("sses", "ss"), ("xes", "x"),
            ("ches", "ch"), ("shes", "sh"), ("ses", "se"))
IDS, MEASURES, PERSONS, PARENTS = (listed(what) for what in ("ids", "measures", "persons", "parents"))
_FILLERS = listed("fillers")
_LAST = frozenset({"last", "edited", "modified", "updated", "changed", "locked", "viewed", "reviewed", "deleted"})
ASKING = frozenset({"require", "is", "has", "can", "may", "show", "hide", "allow", "use", "enable", "disable"})
_DONE, NAMES, _PLURAL = listed("done"), listed("names"), listed("plural")


@lru_cache(maxsize=65536)
def words(name: str) -> tuple[str, ...]:
    """The words of a name, small and singular, in order."""
    return tuple(singular(w.lower()) for w in _PARTS.findall(name))


@lru_cache(maxsize=65536)
def singular(word: str) -> str:
    """A word without the ending of a plural, as far as English and its neighbours agree on one."""
    if word in IDS or len(word) <= 3:
        return word.removesuffix("s") if word in ("ids",) else word
    if word.endswith(_SPELLED):  # cookies, caches, houses
        return word[:-1]
    for ending, rest in _ENDINGS:
        if word.endswith(ending) and word != ending:
            return word[:-len(ending)] + rest
    return word[:-1] if word.endswith("s") and not word.endswith(("ss", "us", "is")) else word


@lru_cache(maxsize=65536)
def pointing(name: str) -> tuple[str, ...]:
    """The words that are left of a column's name when what merely says "number of" is taken away; empty: nothing."""
    return tuple(w for w in words(name) if w not in IDS and w not in _FILLERS)


def says_id(name: str) -> bool:
    """Whether a name says that it holds a row's number."""
    return any(w in IDS for w in words(name)) or words(name)[-1:] == ("by",)


def says_measure(name: str) -> bool:
    """Whether a name says that it holds a count, a measure, a time or a rank."""
    parts = words(name)
    if not parts or says_id(name):
        return False
    last = _PARTS.findall(name)[-1].lower()
    return parts[-1] in MEASURES or parts[0] in MEASURES or parts[0] in ASKING or last in _PLURAL


def says_name(name: str) -> bool:
    """Whether a name says that its values are names: whoever gives out such a value means that very thing."""
    return bool(set(words(name)) & NAMES)


def without_name(name: str) -> str:
    """A column's name without the words that say that it names a row: `room` of `room_slug`."""
    return "_".join(w for w in words(name) if w not in NAMES) or name


def says_person(name: str) -> bool:
    """Whether a name says that what it points at is a person."""
    parts = pointing(name)
    return any(w in PERSONS for w in parts) or (parts[-1:] == ("by",) and bool(set(parts) & _DONE))


def says_weakly(name: str) -> bool:
    """Whether a name says who was last at something: a row does not need that to stand."""
    return bool(set(words(name)) & _LAST) and says_person(name)


def says_parent(name: str) -> bool:
    """Whether a name says that the row above stands there."""
    return bool(set(words(name)) & PARENTS)


@lru_cache(maxsize=65536)
def _table_words(table: str) -> tuple[str, ...]:
    return tuple(w for w in words(table) if w not in _FILLERS)


def last_of(table: str) -> str:
    """The last word of a table's name."""
    return _table_words(table)[-1] if _table_words(table) else ""


@lru_cache(maxsize=65536)
def ends(column: str) -> frozenset[str]:
    """The last words that a table may have that a column is called after, written as one word or as several."""
    joined = "".join(pointing(column))
    return frozenset(joined[at:] for at in range(len(joined)))


def likeness(column: str, table: str, owner: str = "") -> float:
    """How much the name of a column says that it points at a table: 1, the very name; 0.8, a part that tells it from
    others; 0, nothing. owner: the table that the column is in, whose own prefix counts for nothing."""
    wanted, have = pointing(column), _table_words(table)
    if not wanted or not have:
        return 0.0
    if wanted == have:
        return 1.0
    if len(have) > len(wanted) and have[-len(wanted):] == wanted:
        # A prefix of the table's name that the column leaves out: more so if the owner has it too.
        head = have[:-len(wanted)]
        return 0.95 if words(owner)[:len(head)] == head else 0.86 - 0.01 * len(head)
    if len(wanted) > len(have) and wanted[-len(have):] == have:
        return 0.8  # billing_address -> addresses
    for at in range(len(have)):  # written as one word there, or here: `tax_class` and `shop_taxclass`
        if "".join(wanted) == "".join(have[at:]) and (at == 0 or words(owner)[:at] == have[:at] or len(have) > at):
            return 1.0 if at == 0 else 0.95 if words(owner)[:at] == have[:at] else 0.86 - 0.01 * at
    if wanted[-1] == have[-1] and set(wanted) <= set(have):
        return 0.85  # ext_order -> ext_shop_orders
    return 0.0
