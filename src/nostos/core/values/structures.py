"""Structured values: JSON and PHP-serialised text read as trees, changed inside, written back as they were."""

from __future__ import annotations

import base64
import json
from collections.abc import Callable, Iterator, Mapping
from dataclasses import field, fields, is_dataclass
from decimal import Decimal
from functools import cache
from typing import Any

from nostos.core.expressions import expression
from nostos.core.records import dataclass
from nostos.core.values import php

Path = tuple[str, ...]
_DEEPEST = 100
# Keys under which an object says what kind it is.
_HALF_PAIR = expression("[\ud800-\udc7f\udd00-\udfff]")  # others stand for bytes that are no UTF-8
_SAY_KIND = ("type", "kind", "model", "class", "block", "component", "widget", "blockName", "widgetType", "elType",
             "_type", "__typename", "object_type", "content_type")
_MARK = "\ufdd3"  # around a number in the making: no character, so no text that means anything has it
_MARKED = expression(r'"(?:\ufdd3|\\ufdd3)([-+.\deE]+)(?:\ufdd3|\\ufdd3)"')
_SHORTEST = 24  # letters of base64 that are looked into
_BASE64 = expression(r"[A-Za-z0-9+/]+={0,2}")
_ODD = expression(r"[\x00-\x08\x0b\x0c\x0e-\x1f]")
_LETTERS = expression(r"[A-Za-z]{2}|[\[{]")  # a text says more than a number, or a few bytes that are digits by chance
_KIND = expression(r"[A-Za-z][\w./:-]{0,59}")


class WrittenNumber(float):
    """A number of JSON's that is not written as Python would: `1.10`, `1e5`, more digits than a float holds. Equal to
    another by all of its digits."""

    __slots__ = ("text",)
    text: str

    def __new__(cls, text: str) -> WrittenNumber:
        made = super().__new__(cls, text)
        made.text = text
        return made

    def __eq__(self, other: object) -> bool:
        if not isinstance(other, int | float):
            return NotImplemented
        return Decimal(self.text) == Decimal(other.text if isinstance(other, WrittenNumber) else repr(other))

    def __hash__(self) -> int:
        return super().__hash__()


def _number(text: str) -> float:
    plain = float(text)
    return plain if repr(plain) == text else WrittenNumber(text)


def _has_written(tree: Any) -> bool:
    if isinstance(tree, dict):
        return any(map(_has_written, tree.values()))
    return any(map(_has_written, tree)) if isinstance(tree, list) else isinstance(tree, WrittenNumber)


def _marked(tree: Any) -> Any:
    """The tree with its written numbers as texts that are told from all others."""
    if isinstance(tree, dict):
        return {k: _marked(v) for k, v in tree.items()}
    if isinstance(tree, list):
        return [_marked(v) for v in tree]
    return f"{_MARK}{tree.text}{_MARK}" if isinstance(tree, WrittenNumber) else tree


@dataclass(frozen=True)
class Style:
    """How a JSON text was written, as far as writing it again needs to know."""

    item: str = ","
    colon: str = ":"
    ascii_only: bool = False
    slashes: bool = False  # "/" written as "\/"
    indent: int | None = None
    tail: str = ""

    def write(self, tree: Any) -> str:
        """A structure as text, in the style in which it was read."""
        return self.written(_marked(tree), True) if _has_written(tree) else self.written(tree, False)

    def written(self, tree: Any, marked: bool) -> str:
        text = json.dumps(tree, ensure_ascii=self.ascii_only, separators=(self.item, self.colon), indent=self.indent)
        if marked:
            text = _MARKED.sub(r"\1", text)
        # Halves of surrogate pairs can only have come from escapes: nothing else can say them.
        text = _HALF_PAIR.sub(lambda m: f"\\u{ord(m.group()):04x}", text)
        return (text.replace("/", "\\/") if self.slashes else text) + self.tail


@dataclass(frozen=True)
class Base64Style:
    """How a text within base64 is written."""

    def write(self, text: Any) -> str:
        return base64.b64encode(as_bytes(str(text))).decode()


@dataclass(frozen=True)
class InBytes:
    """How a text, or a structure, is written that a column of bytes holds. inner: of the structure; None: of a text."""

    inner: Style | php.PhpStyle | Base64Style | None = None

    def write(self, tree: Any) -> str:
        return str(tree) if self.inner is None else self.inner.write(tree)


def text_in(value: bytes) -> str | None:
    """The text for people or programs that some bytes hold; None where they hold another thing. Many systems keep their
    texts in columns of bytes, so that a database leaves them as they are."""
    try:
        text = value.decode()
    except UnicodeDecodeError:
        return None
    if php.looks_serialised(text):
        return text  # which may hold zeros, in the names of an object's properties
    return text if _LETTERS.search(text) and not _ODD.search(text) else None


def readable(row: Mapping[str, Any]) -> dict[str, Any]:
    """A row with the texts that its columns of bytes hold, for looking at."""
    return {c: (text_in(v) or v) if isinstance(v, bytes) else v for c, v in row.items()}


def from_base64(text: str) -> str | None:
    """The text that a value is in base64, as far as it is one for people or programs: long, of no odd characters, and
    written as it would be again. None for any other."""
    if len(text) < _SHORTEST or len(text) % 4 or not _BASE64.fullmatch(text):
        return None
    try:
        decoded = base64.b64decode(text, validate=True).decode()
    except (ValueError, UnicodeDecodeError):
        return None
    return decoded if not _ODD.search(decoded) and base64.b64encode(decoded.encode()).decode() == text else None


@cache
def _styles() -> tuple[Style, ...]:
    return tuple(
        Style(item, colon, ascii_only, slashes, indent)
        for item, colon, indent in ((",", ":", None), (", ", ": ", None), (",", ": ", 2), (",", ": ", 4))
        for ascii_only in (False, True)
        for slashes in (False, True))


@dataclass(frozen=True)
class StructuredValue:
    """A structured value: equal to another when the data is, however each is written."""

    data: Any
    style: Style | php.PhpStyle | Base64Style | InBytes = field(default=Style(), compare=False)

    def text(self) -> str:
        """The value as text, as it was written, with what changed."""
        return self.style.write(_texts(self.data))

    def raw(self) -> str | bytes:
        """The value as its column holds it."""
        return as_bytes(self.text()) if isinstance(self.style, InBytes) else self.text()

    @property
    def rigid(self) -> bool:
        """Whether it can only be taken or left as a whole: it holds references by number, or is a text in base64 or in
        bytes."""
        style = self.style.inner if isinstance(self.style, InBytes) else self.style
        return style is None or isinstance(style, Base64Style) or (
            isinstance(style, php.PhpStyle) and php.has_references(self.data))


def _texts(data: Any) -> Any:
    """The data with structures inside strings written out."""
    if isinstance(data, StructuredValue):
        return data.text()
    if isinstance(data, dict):
        return {k: _texts(v) for k, v in data.items()}
    return [_texts(v) for v in data] if isinstance(data, list) else data


def read(text: str) -> StructuredValue | None:
    """The structure in a text, or None: neither JSON nor serialised, too deep, or not to be written back as it was."""
    return read_serialised(text) if php.looks_serialised(text) else read_json(text)


def read_serialised(text: str) -> StructuredValue | None:
    """A PHP-serialised value; None where it is none, or is not written byte for byte as PHP would."""
    try:
        return StructuredValue(php.read(text), php.PhpStyle())
    except ValueError:
        return None


def read_json(text: str) -> StructuredValue | None:
    stripped = text.rstrip()
    if not stripped:
        return None
    odd: list[WrittenNumber] = []

    def number(digits: str) -> float:
        value = _number(digits)
        if isinstance(value, WrittenNumber):
            odd.append(value)
        return value

    try:
        data = json.loads(stripped, parse_constant=_refuse, parse_float=number)
        if _depth(data) > _DEEPEST:
            return None
    except (ValueError, RecursionError):
        return None
    if not isinstance(data, dict | list):
        return None  # a lone number or word is compared as the text that it is
    tail, marked = text[len(stripped):], bool(odd)
    plain = _marked(data) if marked else data
    for style in _styles():
        if style.written(plain, marked) == stripped:
            return StructuredValue(data, Style(style.item, style.colon, style.ascii_only, style.slashes, style.indent,
                                               tail))
    return None


def _refuse(name: str) -> Any:
    raise ValueError(f"{name} is not JSON")


def _depth(tree: Any) -> int:
    level, deepest = [tree], 0
    while level:
        deepest += 1
        level = [p for t in level if isinstance(t, dict | list) for p in (t.values() if isinstance(t, dict) else t)]
        if deepest > _DEEPEST:
            break
    return deepest


def jsonable(value: Any) -> Any:
    """A value, structure or not, as JSON can say it: for showing and journaling, not for writing back."""
    if isinstance(value, StructuredValue):
        return jsonable(value.data)
    if isinstance(value, php.Raw):
        return value.text
    if isinstance(value, WrittenNumber):
        return float(value)
    if isinstance(value, bytes):
        return {"bytes": value.hex()}
    if isinstance(value, str):
        return as_bytes(value).decode("utf-8", "backslashreplace")
    if isinstance(value, dict):
        return {("class" if k == php.CLASS else str(k)): jsonable(v) for k, v in value.items()}
    return [jsonable(v) for v in value] if isinstance(value, list | tuple) else value


def kind_in(data: Mapping[Any, Any]) -> str:
    """What an object says that it is, as the end of a step; empty where it does not."""
    for name in _SAY_KIND:
        value = data.get(name)
        if isinstance(value, str) and _KIND.fullmatch(value):
            return "@" + value.replace("/", ".")
    return ""


def fits(pattern: Path, path: Path) -> bool:
    """Whether a path fits a pattern, in which `*` stands for one step and `**` for any number. A step of a path may say
    what kind of object it is in (`value@picture`); a pattern need not."""
    if not pattern:
        return not path
    if pattern[0] == "**":
        return any(fits(pattern[1:], path[n:]) for n in range(len(path) + 1))
    return bool(path) and _fits(pattern[0], path[0]) and fits(pattern[1:], path[1:])


def _fits(wanted: str, step: str) -> bool:
    key, mark, kind = step.partition("@")
    return wanted in ("*", step) or bool(key and mark and wanted in (key, f"*@{kind}"))


def change(tree: Any, leaf: Callable[[Path, Any], Any], key: Callable[[Path, Any], Any], path: Path = ()) -> Any:
    """The tree with every leaf replaced by `leaf(path, value)`, and every key of a map by `key(path of the map, key)`.
    """
    if isinstance(tree, dict):
        kind = kind_in(tree)
        return {key(path, k): change(v, leaf, key, (*path, f"{k}{kind}"))
                for k, v in tree.items()}
    if isinstance(tree, list):
        return [change(v, leaf, key, (*path, str(n))) for n, v in enumerate(tree)]
    return leaf(path, tree)


def leaves(tree: Any, path: Path = ()) -> Iterator[tuple[Path, Any]]:
    """Every leaf with its path."""
    if isinstance(tree, StructuredValue):
        yield from leaves(tree.data, path)
    elif isinstance(tree, dict):
        kind = kind_in(tree)
        for k, v in tree.items():
            yield from leaves(v, (*path, f"{k}{kind}"))
    elif isinstance(tree, list):
        for n, v in enumerate(tree):
            yield from leaves(v, (*path, str(n)))
    else:
        yield path, tree


def all_leaves(value: Any, path: Path = ()) -> Iterator[tuple[Path, Any]]:
    """Every leaf with its path, of structures inside strings too; a value that is none is a leaf itself."""
    for here, leaf in leaves(value, path):
        tree = read(leaf) if may_be_structure(leaf) else None
        if tree is None:
            yield here, leaf
        else:
            yield from all_leaves(tree, here)


def may_be_structure(value: Any) -> bool:
    """Whether a value looks like a structure from its beginning."""
    return isinstance(value, str) and value[:1] in ("{", "[", "a", "O") and len(value) > 2


def put(tree: Any, path: Path, value: Any, missing: object) -> Any:
    """A copy of the tree with `value` at `path`; the key goes away when the value is `missing`."""
    if not path:
        return value
    if isinstance(tree, StructuredValue):
        return StructuredValue(put(tree.data, path, value, missing), tree.style)
    data = dict(tree) if isinstance(tree, dict) else dict(enumerate(tree)) if isinstance(tree, list) else {}
    # Keys of PHP arrays may be numbers, which paths hold as text.
    key = next((k for k in data if str(k) == path[0]), path[0])
    if key not in data and path[0].isdigit() and all(isinstance(k, int) for k in data):
        key = int(path[0])
    below = put(data.get(key, {}), path[1:], value, missing)
    if below is missing:
        data.pop(key, None)
    else:
        data[key] = below
    return list(data.values()) if data and list(data) == list(range(len(data))) else data


def as_bytes(text: str) -> bytes:
    """A text's bytes: those that are no UTF-8 as they were read, or else halves of surrogate pairs as JSON has them."""
    try:
        return text.encode("utf-8", "surrogateescape")
    except UnicodeEncodeError:
        return text.encode("utf-8", "surrogatepass")


def builtins(value: Any) -> Any:
    """Dataclasses as dicts, at any depth; values as JSON can say them."""
    if isinstance(value, StructuredValue | php.Raw):
        return jsonable(value)
    if is_dataclass(value) and not isinstance(value, type):
        return {f.name: builtins(getattr(value, f.name)) for f in fields(value)}
    if isinstance(value, Mapping):
        return {str(k): builtins(v) for k, v in value.items()}
    return [builtins(v) for v in value] if isinstance(value, list | tuple) else jsonable(value)
