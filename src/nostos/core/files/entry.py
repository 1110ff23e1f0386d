"""What lies in a file tree, as data."""

from __future__ import annotations

import hashlib
from collections.abc import Iterable, Iterator
from pathlib import Path

from nostos.core.errors import SiteError
from nostos.core.records import dataclass

NO_FILES = ".nostos-none"  # the tree of a site without files: never made


OWN_PREFIX = ".nostos-"  # whatever Nostos itself lays down in a tree
STAMP = f"{OWN_PREFIX}voyage"  # by which a staging copy's folder is known; what holds it is never part of another tree


@dataclass(frozen=True)
class FileEntry:
    """A file, a link or an empty folder in a tree. path: relative, with forward slashes. stamp: modification and change
    time, ns; none of a folder's.

    digest: BLAKE2b of the content, 16 bytes, or of the target of a link; None where it was not computed.
    """

    path: str
    kind: str  # "file", "link" or "folder"
    size: int
    mode: int
    stamp: tuple[int, int]
    digest: bytes | None = None

    def same_as(self, other: FileEntry | None) -> bool:
        """Whether both hold the same content and rights."""
        return other is not None and (self.kind, self.digest, self.mode) == (other.kind, other.digest, other.mode)


def inside(root: Path, relative: str) -> Path:
    """The path of an entry under `root`. Raises SiteError when it would leave the root, through `..` or a link."""
    parts = relative.split("/")
    if relative.startswith("/") or "\0" in relative or any(p in ("", ".", "..") for p in parts):
        raise SiteError(f"The path {relative!r} leaves its folder.", next_step="Rename the file, or leave it out.")
    parent = root.joinpath(*parts[:-1])
    if not parent.resolve().is_relative_to(root.resolve()):
        raise SiteError(f"The path {relative!r} leaves its folder through a link.",
                        next_step="Replace the link with a folder, or leave the file out.")
    return root.joinpath(*parts)


def plain_text(raw: bytes | None) -> bytes | None:
    """The content of a file, if it is text."""
    if raw is None or b"\0" in raw:
        return None
    try:
        raw.decode()
    except UnicodeDecodeError:
        return None
    return raw


def summed(pieces: Iterable[bytes]) -> bytes:
    """BLAKE2b of a content that comes in pieces, 16 bytes."""
    digest = hashlib.blake2b(digest_size=16)
    for piece in pieces:
        digest.update(piece)
    return digest.digest()


def digest_of(content: bytes) -> bytes:
    """BLAKE2b of a content, 16 bytes."""
    return hashlib.blake2b(content, digest_size=16).digest()


def above_it(path: str) -> Iterator[str]:
    """The folders above a path, from the outermost on."""
    parts = path.split("/")
    return ("/".join(parts[:n]) for n in range(1, len(parts)))
