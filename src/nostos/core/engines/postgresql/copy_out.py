"""Reading many rows out of a server by COPY: the server runs ahead while rows are worked on.

The protocol is used without the driver's own loop around it, which takes longer for a row than all else that is done
to it here. The binary form is that of the documentation of COPY: a head; then, for each row, the number of its fields,
and for each field its length and its bytes; then an end.
"""

from __future__ import annotations

import struct
from collections.abc import Generator
from contextlib import suppress
from selectors import EVENT_READ, DefaultSelector
from typing import Any

import psycopg
from psycopg.pq import ExecStatus
from psycopg.pq.abc import PGconn, PGresult

_HEAD = b"PGCOPY\n\xff\r\n\x00"
_END = b"\xff\xff"
_LENGTH = struct.Struct("!i").unpack_from
_MOMENT = 0.01  # seconds


def copied(connection: psycopg.Connection[tuple[Any, ...]], query: str, binary: bool = False
           ) -> Generator[bytes, None, None]:
    """What COPY gives for a query, a row at a time, as the server writes it; in the binary form without its head and
    its end. Raises psycopg.Error."""
    server = connection.pgconn
    over = False
    with DefaultSelector() as selector:
        selector.register(server.socket, EVENT_READ)
        server.send_query(f"COPY ({query}) TO STDOUT{' (FORMAT binary)' if binary else ''}".encode())
        try:
            while server.flush():
                selector.select(_MOMENT)
            _wait(selector, server)
            begun = server.get_result()
            if begun is None or begun.status != ExecStatus.COPY_OUT:
                over = True
                _see_to_the_end(server, begun)
                raise psycopg.OperationalError("the server has nothing to copy")
            take, head = server.get_copy_data, binary
            while True:
                size, data = take(1)
                if size == 0:
                    selector.select()
                    server.consume_input()
                    continue
                if size < 0:
                    break
                row = bytes(data)
                if head:
                    head = False
                    row = _without_head(row)
                if row and not (binary and row == _END):
                    yield row
            over = True
            _see_to_the_end(server)
        finally:
            if not over:  # nobody wants the rest
                with suppress(psycopg.Error):
                    server.get_cancel().cancel()
                    while server.get_copy_data(0)[0] > 0:
                        pass
                    _see_to_the_end(server)


def fields(row: bytes) -> list[bytes | None]:
    """The fields of a row in the binary form."""
    fields: list[bytes | None] = []
    at = 2
    for _ in range(int.from_bytes(row[:2])):
        size = _LENGTH(row, at)[0]
        at += 4
        fields.append(None if size < 0 else row[at:at + size])
        at += max(size, 0)
    return fields


def _without_head(row: bytes) -> bytes:
    """What follows the head of the binary form: it comes with the first row, or alone."""
    if not row.startswith(_HEAD):
        raise psycopg.DataError("not the binary form of COPY")
    place = len(_HEAD) + 4
    return row[place + 4 + _LENGTH(row, place)[0]:]


def _wait(selector: DefaultSelector, server: PGconn) -> None:
    """Wait for an answer, so that Ctrl-C can end it, too."""
    while server.is_busy():
        selector.select()
        server.consume_input()


def _see_to_the_end(server: PGconn, result: PGresult | None = None) -> None:
    """Take what is left of an answer, so that the next can be asked for. Raises psycopg.Error when it is an error."""
    failed = None
    while result is not None or (result := server.get_result()) is not None:
        if result.status == ExecStatus.FATAL_ERROR:
            failed = failed or result
        result = None
    if failed is not None:
        raise psycopg.errors.error_from_result(failed, "utf-8")
