"""What declared column types hold, as most engines write them: widening, defaults, values for the time being."""

from __future__ import annotations

import re
import secrets
from collections.abc import Iterator

from nostos.core.database.schema import Column, Value

_LADDERS = (("tinyint", "smallint", "mediumint", "int", "integer", "bigint"),
            ("tinytext", "text", "mediumtext", "longtext"), ("tinyblob", "blob", "mediumblob", "longblob"),
            ("float", "double"))
_HOLDS = {"tinytext": 255, "text": 65_535, "mediumtext": 1 << 24, "longtext": 1 << 32}
_PLACEHOLDERS = 1000  # values that are tried


def widens(old: Column, new: Column) -> bool:
    """Whether every value of the old column fits into the new one."""
    if old.nullable and not new.nullable:
        return False
    if old.charset != new.charset and not (old.charset in ("utf8mb3", "ascii") and new.charset == "utf8mb4"):
        return False
    if old.declared.lower() == new.declared.lower():
        return True
    (a, a_args, a_rest), (b, b_args, b_rest) = (_parsed(c.declared) for c in (old, new))
    if a_rest != b_rest:
        return False
    if a == b:
        if a in ("enum", "set"):
            return b_args[:len(a_args)] == a_args
        numbers = [[int(x) for x in args if x.isdigit()] for args in (a_args, b_args)]
        return a in _LADDERS[0] or (len(numbers[0]) == len(numbers[1]) and all(
            x <= y for x, y in zip(numbers[0], numbers[1], strict=True)) and _scale(numbers))
    for ladder in _LADDERS:
        if a in ladder and b in ladder:
            return ladder.index(a) <= ladder.index(b)
    if a in ("char", "varchar") and a_args and a_args[0].isdigit():
        if b == "varchar" and b_args and b_args[0].isdigit():
            return int(a_args[0]) <= int(b_args[0])
        return int(a_args[0]) * 4 <= _HOLDS.get(b, 0)
    return False


def _scale(numbers: list[list[int]]) -> bool:
    """Whether decimals keep as many digits before the point."""
    old, new = numbers
    return len(old) < 2 or new[0] - new[1] >= old[0] - old[1]


def _parsed(declared: str) -> tuple[str, list[str], str]:
    """A type's word, its arguments, and what follows."""
    match = re.fullmatch(r"\s*(\w+)\s*(?:\((.*)\))?\s*(.*)", declared.lower(), re.DOTALL)
    if match is None:
        return declared.lower(), [], ""
    return match.group(1), [a.strip() for a in (match.group(2) or "").split(",") if a.strip()], match.group(3)


def empty_value(column: Column) -> Value:
    """The empty value of a column's type, which rows get that were there before a column without a default."""
    declared = column.declared.lower()
    if "int" in declared or "bool" in declared or "year" in declared:
        return 0
    if any(word in declared for word in ("real", "floa", "doub")):
        return 0.0
    if "dec" in declared or "num" in declared:
        return "0" if column.kind else 0
    if "blob" in declared or "binary" in declared:
        return b""
    if "datetime" in declared or "timestamp" in declared:
        return "1970-01-01 00:00:00"
    if "date" in declared:
        return "1970-01-01"
    return "{}" if "json" in declared else ""


def default_value(column: Column) -> Value:
    """A column's default as a value, where it is a plain literal; of one that may not be empty and has none, its type's
    empty value; else None."""
    if column.default is None and not column.nullable and not column.generated:
        return empty_value(column)
    text = (column.default or "NULL").strip("() ")
    number = re.fullmatch(r"-?(\d+|\d*(\.)\d+)", text)
    if number and column.kind in ("other", "text", "float"):
        return text  # so are the rows' own values of such a column
    if number:
        return float(text) if number.group(2) else int(text)
    if len(text) >= 2 and text[0] == text[-1] == "'":
        return text[1:-1].replace("''", "'")
    return None


def placeholders(column: Column) -> Iterator[Value]:
    """Values of a column's type that a row may have for a moment inside the transaction, the least likely ones first.
    """
    declared = column.declared.lower()
    room = [int(n) for n in re.findall(r"\d+", declared.partition("(")[2])]
    if column.nullable:
        yield None
    elif "int" in declared or "serial" in declared:
        bits = next((b for word, b in (("tiny", 8), ("small", 16), ("medium", 24), ("big", 64)) if word in declared),
                    32)
        yield from ((1 << (bits - 1)) - 1 - n for n in range(_PLACEHOLDERS))
        yield from range(-1, -_PLACEHOLDERS, -1)
    elif "decimal" in declared or "numeric" in declared:
        digits, places = (*room, 0)[:2] if room else (10, 0)
        yield from (str(10 ** (digits - places) - 1 - n) for n in range(_PLACEHOLDERS))
    elif "float" in declared or "double" in declared or "real" in declared:
        yield from (-float(n) - 0.5 for n in range(_PLACEHOLDERS))
    elif "datetime" in declared or "timestamp" in declared:
        yield from (f"1971-01-01 {n // 3600:02d}:{n // 60 % 60:02d}:{n % 60:02d}" for n in range(_PLACEHOLDERS))
    elif "date" in declared:
        yield from (f"{1001 + n // 28}-01-{n % 28 + 1:02d}" for n in range(_PLACEHOLDERS))
    elif "time" in declared:
        yield from (f"{n // 3600:02d}:{n // 60 % 60:02d}:{n % 60:02d}" for n in range(_PLACEHOLDERS))
    elif "year" in declared:
        yield from range(2155, 1901, -1)
    elif declared.startswith(("enum", "set")):
        yield from re.findall(r"'([^']*)'", column.declared)
    else:
        most = room[0] if room else 32
        made = (secrets.token_hex(16)[:most] for _ in range(_PLACEHOLDERS))
        yield from (m.encode() if "bin" in declared or "blob" in declared else m for m in made)
        yield from (chr(n) for n in range(33, 127))
