"""Rows as lines of JSON, for people and ordinary tools to read; read back, they are exactly what they were."""

from __future__ import annotations

import base64
import binascii
import math
from collections.abc import Sequence
from typing import Any

import msgspec

from nostos.core.database.schema import Value


def line(values: Sequence[Value]) -> bytes:
    """A row as a line of JSON: an array; what JSON cannot say is an object with one key."""
    return msgspec.json.encode([v if type(v) is int or v is None else _out(v) for v in values]) + b"\n"


def _out(value: Value) -> Any:
    if isinstance(value, str):
        try:
            value.encode()
            return value
        except UnicodeEncodeError:
            return {"text": base64.b64encode(value.encode("utf-8", "surrogateescape")).decode()}
    if isinstance(value, bytes):
        return {"base64": base64.b64encode(value).decode()}
    if isinstance(value, float) and not math.isfinite(value):
        return {"float": repr(value)}
    return value


_lines: msgspec.json.Decoder[list[Any]] = msgspec.json.Decoder(list[Any])


def values(text: bytes, width: int | None) -> tuple[Value, ...]:
    """The values of a line. width: how many there must be (None: any number). Raises ValueError."""
    try:
        rows = _lines.decode(text)
        if width is None or len(rows) == width:
            return tuple([v if type(v) is str or type(v) is int or v is None else _in(v) for v in rows])
    except (msgspec.DecodeError, binascii.Error, ValueError, RecursionError):
        pass
    raise ValueError("not a row")


def _in(value: Any) -> Value:
    if isinstance(value, dict) and len(value) == 1:
        (kind, text), = value.items()
        if kind == "base64":
            return base64.b64decode(text, validate=True)
        if kind == "text":
            return base64.b64decode(text, validate=True).decode("utf-8", "surrogateescape")
        if kind == "float" and text in ("inf", "-inf"):
            return float(text)
    if isinstance(value, float):
        return value
    raise ValueError("not a value")
