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
from typing import Any

import msgspec
import zstandard

from nostos.core.database.schema import Key, Value

ROWS_PER_BLOCK = 128
BUCKETS = 2048
_RAW_TEXT = 1  # MessagePack extension: text whose bytes are not valid UTF-8


def _encode_odd(value: Value) -> Any:
    if isinstance(value, str):
        try:
            value.encode()
        except UnicodeEncodeError:
            return msgspec.msgpack.Ext(_RAW_TEXT, value.encode("utf-8", "surrogateescape"))
    elif isinstance(value, int) and not -(1 << 63) <= value < (1 << 64):
        return str(value)
    return value


def _decode_odd(code: int, data: memoryview) -> Any:
    if code != _RAW_TEXT:
        raise ValueError(f"unknown extension {code}")
    return bytes(data).decode("utf-8", "surrogateescape")


_encoder = msgspec.msgpack.Encoder()
_decoder = msgspec.msgpack.Decoder(ext_hook=_decode_odd)


def pack(values: Sequence[Value] | Any) -> bytes:
    """MessagePack bytes of a list of values; text that is not valid UTF-8 keeps its bytes."""
    try:
        return _encoder.encode(values)
    except (UnicodeEncodeError, OverflowError):
        return _encoder.encode(_deep_odd(values))


def _deep_odd(values: Any) -> Any:
    if isinstance(values, list | tuple):
        return [_deep_odd(v) for v in values]
    if isinstance(values, dict):
        return {_deep_odd(k): _deep_odd(v) for k, v in values.items()}
    return _encode_odd(values)


def unpack(data: bytes) -> Any:
    """What `pack` packed; tuples come back as lists."""
    return _decoder.decode(data)


def squeeze(values: Any) -> bytes:
    """`pack`, compressed with Zstandard (RFC 8878)."""
    return zstandard.compress(pack(values), 3)


def unsqueeze(data: bytes) -> Any:
    return unpack(zstandard.decompress(data))


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
