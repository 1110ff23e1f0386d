"""What lies where in a backup, and how values are written in it.

A backup is a tar archive (POSIX.1-2001, pax), compressed with Zstandard (RFC 8878). In this order it holds
`manifest.json`, `README.txt`, `database/schema.sql` for people, `database/schema.json`, the rows as JSON lines below
`database/rows`, the site's own configuration below `configuration`, its tree below `files`, and `SHA256SUMS`. Behind
the compressed archive stands a skippable frame of fixed length that tells how much there is.
"""

from __future__ import annotations

import base64
import binascii
import math
import re
from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

import msgspec

from nostos.core.database.schema import Value
from nostos.core.errors import NostosError

FORMAT, VERSION = "nostos-backup", 1
MANIFEST, README, SCHEMA_SQL, SCHEMA, SUMS = (
    "manifest.json", "README.txt", "database/schema.sql", "database/schema.json", "SHA256SUMS")
ROWS, RAW, CONFIGURATION, FILES = "database/rows/", "database/raw/", "configuration/", "files/"
ENDING = ".tar.zst"
PIECE = 4 << 20  # bytes of rows that make up one member, about
LARGEST_PIECE = 512 << 20  # no member with rows may be larger: it is held in memory

# The frame behind the archive: magic number and length as RFC 8878 has them, then JSON filled up with blanks.
TAIL_MAGIC = (0x184D2A5E).to_bytes(4, "little")
TAIL_SIZE = 8 + 248


class BackupError(NostosError):
    """A backup is damaged, is none, or holds something that is not taken."""


@dataclass(frozen=True)
class Manifest:
    """Whose backup it is. made: ISO 8601, UTC. by: the Nostos that made it. engine: "sqlite", "mysql" or "none".

    configuration: names of the site's own configuration files, as they lie to its folder; tree: where its tree lies
    to that. passed: files that were passed over, and why.
    """

    format: str
    version: int
    site: str
    url: str
    made: str
    by: str
    profile: str
    engine: str
    server: str
    prefix: str
    configuration: tuple[str, ...]
    files: bool
    tree: str = "."
    passed: tuple[tuple[str, str], ...] = ()


@dataclass(frozen=True)
class Tail:
    """How much there is: members of the archive, its bytes before compression, and the digest of SHA256SUMS."""

    format: str
    version: int
    members: int
    content: int
    sums: str

    def written(self) -> bytes:
        payload = msgspec.json.encode(self)
        return TAIL_MAGIC + (TAIL_SIZE - 8).to_bytes(4, "little") + payload.ljust(TAIL_SIZE - 8)


def folder_of(number: int, table: str) -> str:
    """The name of the folder that holds a table's rows."""
    return f"{number:04d}-" + re.sub(r"[^A-Za-z0-9_-]", "_", table)[:80]


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
    """The values of a line. width: how many there must be (None: any number). Raises BackupError."""
    try:
        found = _lines.decode(text)
        if width is None or len(found) == width:
            return tuple([v if type(v) is str or type(v) is int or v is None else _in(v) for v in found])
    except (msgspec.DecodeError, binascii.Error, ValueError, RecursionError):
        pass
    raise damaged("a row in it cannot be read")


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


def damaged(why: str) -> BackupError:
    return BackupError(f"The backup is not taken: {why}.", next_step="Use another one; this one cannot be trusted.")
