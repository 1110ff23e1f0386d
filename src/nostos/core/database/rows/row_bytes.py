"""Rows as bytes: what a row's digest is made over, and what the anchor keeps of it.

Two forms. `packed` is MessagePack of the values in column order, made by this program. `text` is written by a server
itself, in SQL: the values in column order with commas between, each as the server's text in UTF-8, text and binary ones
preceded by their length in bytes and a comma, NULL as `N`. No two rows have the same bytes in either form.
"""

from __future__ import annotations

import hashlib
from abc import ABC, abstractmethod
from collections.abc import Sequence

from nostos.core.database.schema import Table, Value
from nostos.core.values.packed import pack, unpack

Values = tuple[Value, ...]


class RowForm(ABC):
    """How rows of one table, over some columns, are written as bytes."""

    @abstractmethod
    def write(self, values: Sequence[Value]) -> bytes:
        """A row's bytes."""

    @abstractmethod
    def read(self, payload: bytes) -> Values:
        """The values that `write` was given. Raises ValueError when these are not a row's bytes."""

    @staticmethod
    @abstractmethod
    def digest(payload: bytes) -> bytes:
        """16 bytes that stand for a row's bytes."""


class PackedForm(RowForm):
    """MessagePack; the digest is BLAKE2b (RFC 7693), so that 1, 1.0, '1' and b'1' all differ."""

    def write(self, values: Sequence[Value]) -> bytes:
        return pack(list(values))

    def read(self, payload: bytes) -> Values:
        return tuple(unpack(payload))

    @staticmethod
    def digest(payload: bytes) -> bytes:
        return hashlib.blake2b(payload, digest_size=16).digest()


class TextForm(RowForm):
    """A server's text; the digest is SHA-1, cut to 16 bytes, which servers compute faster than MD5.

    kinds: how each value travels ("int", "binary", "text", "float", "other").
    """

    def __init__(self, kinds: Sequence[str]) -> None:
        self._kinds = tuple(kinds)

    def write(self, values: Sequence[Value]) -> bytes:
        parts: list[bytes] = []
        for kind, value in zip(self._kinds, values, strict=True):
            long = kind in ("text", "binary")
            if value is None:
                parts += [b"N", b"N"] if long else [b"N"]
                continue
            raw = value if isinstance(value, bytes) else str(value).encode("utf-8", "surrogateescape")
            parts += [b"%d" % len(raw), raw] if long else [raw]
        return b",".join(parts)

    def read(self, payload: bytes) -> Values:
        values: list[Value] = []
        at = 0
        for kind in self._kinds:
            end = payload.find(b",", at)
            head = payload[at:] if end < 0 else payload[at:end]
            if kind in ("text", "binary"):
                if head == b"N":
                    at = end + 3
                    values.append(None)
                    continue
                start, size = end + 1, int(head)
                raw = payload[start:start + size]
                at = start + size + 1
                values.append(raw if kind == "binary" else raw.decode("utf-8", "surrogateescape"))
            else:
                at += len(head) + 1
                values.append(None if head == b"N" else int(head) if kind == "int" else head.decode())
        if at != len(payload) + 1:
            raise ValueError("not a row's bytes")
        return tuple(values)

    @staticmethod
    def digest(payload: bytes) -> bytes:
        return hashlib.sha1(payload, usedforsecurity=False).digest()[:16]


class TextForm256(TextForm):
    """The same, for servers that have SHA-256 (FIPS 180-4) and no SHA-1; cut to 16 bytes."""

    @staticmethod
    def digest(payload: bytes) -> bytes:
        return hashlib.sha256(payload).digest()[:16]


def row_form(table: Table, columns: Sequence[str]) -> RowForm:
    """The form in which a table's rows are written over these columns."""
    if table.form == "packed":
        return PackedForm()
    typed = (table.column(c) for c in columns)
    form = TextForm256 if table.form == "text-sha256" else TextForm
    return form([c.kind if c else "other" for c in typed])
