"""What lies where in a backup, and how values are written in it.

A backup is a tar archive (POSIX.1-2001, pax), compressed with Zstandard (RFC 8878). In this order it holds
`manifest.json`, `README.txt`, `database/schema.sql` for people, `database/schema.json`, the rows as JSON lines below
`database/rows`, the site's own configuration below `configuration`, its tree below `files`, and `SHA256SUMS`. Behind
the compressed archive stands a skippable frame of fixed length that tells how much there is.
"""

from __future__ import annotations

import re

import msgspec

from nostos.core.errors import NostosError
from nostos.core.records import dataclass

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
        """The tail, as the bytes that it is found by."""
        payload = msgspec.json.encode(self)
        return TAIL_MAGIC + (TAIL_SIZE - 8).to_bytes(4, "little") + payload.ljust(TAIL_SIZE - 8)


def folder_of(number: int, table: str) -> str:
    """The name of the folder that holds a table's rows."""
    return f"{number:04d}-" + re.sub(r"[^A-Za-z0-9_-]", "_", table)[:80]


def damaged(why: str) -> BackupError:
    """An error for a backup that cannot be relied on. why: as a clause."""
    return BackupError(f"The backup is not taken: {why}.", next_step="Use another one; this one cannot be trusted.")
