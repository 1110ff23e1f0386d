"""Where a site's address is kept in pieces: its host, port, scheme and path, each as a whole value."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence

from nostos.core.database.schema import Row, Table
from nostos.core.learning.places import key_columns
from nostos.core.profiles.parts import Piece
from nostos.core.values import words

_CALLED = {"host": frozenset({"host", "hostname", "domain", "server", "servername", "vhost", "netloc", "fqdn"}),
           "port": frozenset({"port"}),
           "scheme": frozenset({"scheme", "protocol", "proto"}),
           "path": frozenset({"path", "basepath", "subfolder", "prefix", "root"})}


def pieces_in(table: Table, rows: Sequence[Row], site_urls: Mapping[str, str]) -> Iterator[Piece]:
    """The places of a table that hold pieces of an address. site_urls: the site's own pieces. A host is known by its
    value; the others only beside it."""
    if "." not in site_urls["host"]:
        return  # a plain word is not only a host's
    pair = key_columns(table)
    if pair:
        yield from _keyed(table, pair, rows, site_urls)
    for column in table.stored:
        held = any(row[column] == site_urls["host"] for row in rows)
        if held and _says(column, "host") and (not pair or column != pair[1]):
            yield Piece(table.name, column, (), "host")
            for other in table.stored:
                yield from (Piece(table.name, other, (), piece, column) for piece in ("port", "scheme", "path")
                            if other != column and _says(other, piece) and site_urls[piece])


def _keyed(table: Table, pair: tuple[str, str], rows: Sequence[Row], site_urls: Mapping[str, str]) -> Iterator[Piece]:
    key, value = pair
    held = {str(row[key]): row[value] for row in rows}
    for name, here in held.items():
        if here == site_urls["host"] and _says(name, "host"):
            yield Piece(table.name, value, ((key, name),), "host")
            head = words.words(name)[:-1]
            for other, match in held.items():
                if other != name and words.words(other)[:-1] == head:
                    yield from (Piece(table.name, value, ((key, other),), piece) for piece in ("port", "scheme", "path")
                                if _says(other, piece) and site_urls[piece] and str(match) == site_urls[piece])


def _says(name: str, piece: str) -> bool:
    return bool(set(words.words(name)[-2:]) & _CALLED[piece])
