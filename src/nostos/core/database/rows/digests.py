"""Digests of rows and of blocks of rows.

A row's digest is BLAKE2b (RFC 7693), 16 bytes, over the MessagePack form of its values in column order, so that 1,
1.0, '1' and b'1' all differ; a server computes digests of its own. A block's digest is the exclusive or of the first 8
bytes of its rows' digests: it does not depend on the order in which rows arrive, and a server can compute it with
BIT_XOR and GROUP BY. Rows of one block differ at least in their keys, so no two cancel out.
"""

from __future__ import annotations

import hashlib
import zlib
from collections.abc import Iterable, Sequence

from nostos.core.database.schema import Key, Value
from nostos.core.values.packed import pack

ROWS_PER_BLOCK = 128
BUCKETS = 2048


def row_digest(values: Sequence[Value]) -> bytes:
    """16 bytes that stand for these values in this order."""
    return hashlib.blake2b(pack(list(values)), digest_size=16).digest()


def add_digests(total: int, digests: Iterable[bytes]) -> int:
    """The block digest `total` with these rows' digests added."""
    read = int.from_bytes
    for digest in digests:
        total ^= read(digest[:8], "big")
    return total


def block_of(key: Key) -> int:
    """The number of the block that a row with this key belongs to: whole ranges of a number, else a bucket by hash."""
    if len(key) == 1 and isinstance(key[0], int):
        # Towards zero, as servers divide.
        return key[0] // ROWS_PER_BLOCK if key[0] >= 0 else -(-key[0] // ROWS_PER_BLOCK)
    return zlib.crc32(b"\x1f".join(_bytes(v) for v in key)) % BUCKETS


def _bytes(value: Value) -> bytes:
    if isinstance(value, bytes):
        return value
    return str(value).encode("utf-8", "surrogateescape")
