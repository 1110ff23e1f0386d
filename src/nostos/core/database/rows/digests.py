"""Digests of rows and of blocks of rows.

A row's digest is BLAKE2b (RFC 7693), 16 bytes, over the MessagePack form of its values in column order, so that 1,
1.0, '1' and b'1' all differ; a server computes digests of its own. A block's digest is the exclusive or of the first 8
bytes of its rows' digests: it does not depend on the order in which rows arrive, and a server can compute it with
BIT_XOR and GROUP BY. Rows of one block differ at least in their keys, so no two cancel out.
"""

from __future__ import annotations

import hashlib
from collections.abc import Iterable, Sequence

from nostos.core.database.schema import Value
from nostos.core.hosts.helper import BUCKETS, ROWS_PER_BLOCK, block_of
from nostos.core.values.packed import pack

__all__ = ["BUCKETS", "ROWS_PER_BLOCK", "add_digests", "block_of", "row_digest"]



def row_digest(values: Sequence[Value]) -> bytes:
    """16 bytes that stand for these values in this order."""
    return hashlib.blake2b(pack(list(values)), digest_size=16).digest()


def add_digests(total: int, digests: Iterable[bytes]) -> int:
    """The block digest `total` with these rows' digests added."""
    read = int.from_bytes
    for digest in digests:
        total ^= read(digest[:8], "big")
    return total
