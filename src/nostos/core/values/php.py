"""PHP's serialised values: read as data, changed inside, written back byte for byte. Nothing is ever instantiated.

The format is the one that PHP's manual describes under `serialize`: a letter for the type, byte lengths for strings,
counts for arrays and objects. Arrays whose keys are 0, 1, 2... become lists, other arrays dicts; an object is a dict
whose first key, CLASS, holds its class name. What cannot be changed inside without knowing more (references, enums,
custom-serialised objects, floats) is kept as it is written.
"""

from __future__ import annotations

from typing import Any

from nostos.core.expressions import expression
from nostos.core.records import dataclass

CLASS = "\0class"  # no property of a PHP object is called so: names that begin with NUL name a class and end in NUL
_DEEPEST = 100
_LOOKS = expression(r"(?:[aOC]:\d+:|s:\d+:\"|[bid]:[^;]{1,40};\Z|N;\Z|E:\d+:)")
_SCALAR = expression(rb"(?:N|b:[01]|i:-?\d+|d:[^;]{1,40}|[rR]:\d+);")
_HEAD = expression(rb"([aOCsE]):(\d+):")
_COUNT = expression(rb"(\d+):\{")


@dataclass(frozen=True)
class Raw:
    """A part that is kept as it is written: a float, a reference, an enum case, a custom-serialised object."""

    text: str


class _Broken(Exception):
    pass


def looks_serialised(text: str) -> bool:
    """Whether a text begins like a serialised value that may hold others; a cheap look."""
    return _LOOKS.match(text) is not None


def read(text: str) -> Any:
    """The data of a serialised value. Raises ValueError when it is broken, too deep, or not to be written as it was."""
    data = text.encode("utf-8", "surrogateescape")
    try:
        value = _read(data)
    except (_Broken, IndexError, RecursionError, ValueError) as error:
        raise ValueError(f"not a serialised value: {error}") from None
    if write(value) != text:
        raise ValueError("would not be written back as it was")
    return value


def _read(data: bytes) -> Any:
    return _Reader(data).run()


class _Reader:
    """Reads without recursion: `open` holds the arrays and objects that are not closed yet."""

    def __init__(self, data: bytes) -> None:
        self.data = data
        self.at = 0
        # What it holds so far, how many entries it wants, whether it is an object; and the key that it waits with.
        self.open: list[tuple[dict[Any, Any], int, bool]] = []
        self.keys: list[Any] = []

    def run(self) -> Any:
        while True:
            value = self._next()
            if len(self.open) > _DEEPEST:
                raise _Broken("too deep")
            if self._put(value):
                return self.whole

    def _next(self) -> Any:
        """The next value; _NONE where something was opened."""
        match = _SCALAR.match(self.data, self.at)
        if match:
            self.at = match.end()
            return _scalar(match.group())
        head = _HEAD.match(self.data, self.at)
        if head is None:
            raise _Broken(f"nothing readable at byte {self.at}")
        letter, length, self.at = head.group(1), int(head.group(2)), head.end()
        if letter == b"a":
            self._expect(b"{", "no array")
            return self._opened({}, length, False)
        name = _quoted(self.data, self.at, length)
        self.at += length + 2
        if letter in (b"s", b"E"):
            self._expect(b";", "a string does not end")
            return name if letter == b"s" else Raw(f'E:{length}:"{name}";')
        count = _COUNT.match(self.data, self.at + 1)
        if self.data[self.at:self.at + 1] != b":" or count is None:
            raise _Broken(f"no object at byte {self.at}")
        size, self.at = int(count.group(1)), count.end()
        if letter != b"C":
            return self._opened({CLASS: name}, size + 1, True)
        self.at += size
        self._expect(b"}", "a custom object does not end")
        return Raw(self.data[head.start():self.at].decode("utf-8", "surrogateescape"))

    def _expect(self, sign: bytes, why: str) -> None:
        if self.data[self.at:self.at + 1] != sign:
            raise _Broken(f"{why} at byte {self.at}")
        self.at += 1

    def _opened(self, holder: dict[Any, Any], wanted: int, is_object: bool) -> Any:
        self.open.append((holder, wanted, is_object))
        self.keys.append(_NONE)
        return _NONE

    def _put(self, value: Any) -> bool:
        """Put a finished value into what is open; that may finish in turn. Returns whether all is finished: then it is
        in `whole`."""
        while True:
            if value is not _NONE:
                if not self.open:
                    if self.at != len(self.data):
                        raise _Broken(f"more after its end, at byte {self.at}")
                    self.whole = value
                    return True
                holder = self.open[-1][0]
                if self.keys[-1] is _NONE:
                    if isinstance(value, bool) or not isinstance(value, int | str) or value in holder:
                        raise _Broken(f"no key before byte {self.at}")
                    self.keys[-1] = value
                    return False
                holder[self.keys[-1]] = value
                self.keys[-1] = _NONE
            holder, wanted, is_object = self.open[-1]
            if len(holder) < wanted:
                return False
            self._expect(b"}", "no end")
            self.open.pop()
            self.keys.pop()
            plain = not is_object and list(holder) == list(range(len(holder)))
            value = list(holder.values()) if plain else holder


_NONE: Any = object()


def _scalar(text: bytes) -> Any:
    letter = text[:1]
    if letter == b"N":
        return None
    if letter == b"b":
        return text == b"b:1;"
    return int(text[2:-1]) if letter == b"i" else Raw(text.decode())


def _quoted(data: bytes, at: int, length: int) -> str:
    if data[at:at + 1] != b'"' or data[at + 1 + length:at + 2 + length] != b'"':
        raise _Broken(f"a string is not of its length at byte {at}")
    return data[at + 1:at + 1 + length].decode("utf-8", "surrogateescape")


def write(value: Any) -> str:
    """A value in PHP's format. Data of depth over what `read` gives raises RecursionError."""
    parts: list[str] = []
    _write(value, parts)
    return "".join(parts)


def _write(value: Any, parts: list[str]) -> None:
    if value is None:
        parts.append("N;")
    elif isinstance(value, bool):
        parts.append(f"b:{int(value)};")
    elif isinstance(value, int):
        parts.append(f"i:{value};")
    elif isinstance(value, Raw):
        parts.append(value.text)
    elif isinstance(value, str):
        parts.append(f's:{_length(value)}:"{value}";')
    elif isinstance(value, list):
        parts.append(f"a:{len(value)}:{{")
        for number, inner in enumerate(value):
            parts.append(f"i:{number};")
            _write(inner, parts)
        parts.append("}")
    elif isinstance(value, dict):
        if CLASS in value:
            name = value[CLASS]
            parts.append(f'O:{_length(name)}:"{name}":{len(value) - 1}:{{')
        else:
            parts.append(f"a:{len(value)}:{{")
        for key, inner in value.items():
            if key != CLASS:
                _write(key, parts)
                _write(inner, parts)
        parts.append("}")
    else:
        _write(value.text(), parts)  # a structure inside a string


def _length(text: str) -> int:
    return len(text) if text.isascii() else len(text.encode("utf-8", "surrogateescape"))


def has_references(value: Any) -> bool:
    """Whether parts refer to others by their number, so that none may come or go."""
    level = [value]
    while level:
        part = level.pop()
        if isinstance(part, Raw) and part.text[:1] in ("r", "R"):
            return True
        level.extend(part.values() if isinstance(part, dict) else part if isinstance(part, list) else ())
    return False


@dataclass(frozen=True)
class PhpStyle:
    """How a structure that came from a serialised value is written again."""

    def write(self, tree: Any) -> str:
        return write(tree)
