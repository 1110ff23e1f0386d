"""Values as bytes: MessagePack, compressed where they are kept."""

from __future__ import annotations

import threading
from collections.abc import Sequence
from typing import Any

import msgspec
import zstandard

_LEVEL = 1  # more takes longer than it saves: rows of one table are much alike
_own = threading.local()  # a compressor is for one thread, and making one takes as long as a block of rows
_RAW_TEXT = 1  # MessagePack extension: text whose bytes are not valid UTF-8
_HALF_PAIRS = 2  # text with halves of surrogate pairs, as scripts write them into JSON


def _encode_odd(value: Any) -> Any:
    if isinstance(value, str):
        try:
            value.encode()
        except UnicodeEncodeError:
            try:
                return msgspec.msgpack.Ext(_RAW_TEXT, value.encode("utf-8", "surrogateescape"))
            except UnicodeEncodeError:
                return msgspec.msgpack.Ext(_HALF_PAIRS, value.encode("utf-8", "surrogatepass"))
    elif isinstance(value, int) and not -(1 << 63) <= value < (1 << 64):
        return str(value)
    return value


def _decode_odd(code: int, data: memoryview) -> Any:
    if code not in (_RAW_TEXT, _HALF_PAIRS):
        raise ValueError(f"unknown extension {code}")
    return bytes(data).decode("utf-8", "surrogateescape" if code == _RAW_TEXT else "surrogatepass")


_encoder = msgspec.msgpack.Encoder(enc_hook=float)  # a number that is written in its own way is one
_decoder = msgspec.msgpack.Decoder(ext_hook=_decode_odd)


def pack(values: Sequence[Any] | Any) -> bytes:
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
    made: zstandard.ZstdCompressor | None = getattr(_own, "compressor", None)
    if made is None:
        made = _own.compressor = zstandard.ZstdCompressor(level=_LEVEL)
    return made.compress(pack(values))


def unsqueeze(data: bytes) -> Any:
    """What `squeeze` made small."""
    return unpack(zstandard.decompress(data))
