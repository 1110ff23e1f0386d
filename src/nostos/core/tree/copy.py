"""Copying files with their digests computed on the way."""

from __future__ import annotations

import hashlib
import os
import shutil
from pathlib import Path

from nostos.core.tree.entries import Entry

_CHUNK = 1 << 20


def copy_file(source: Path, target: Path, mode: int, flush: bool = True) -> bytes:
    """Copy one file, flush it to disk, give it its rights and times. Returns the digest of what was copied.

    The target must not exist, so that nothing is written through a link that someone laid there.
    """
    digest = hashlib.blake2b(digest_size=16)
    descriptor = os.open(target, os.O_WRONLY | os.O_CREAT | os.O_EXCL, 0o600)
    with source.open("rb") as read, os.fdopen(descriptor, "wb") as write:
        while chunk := read.read(_CHUNK):
            digest.update(chunk)
            write.write(chunk)
        write.flush()
        if flush:
            os.fsync(write.fileno())
    target.chmod(mode)
    shutil.copystat(source, target)
    target.chmod(mode)
    return digest.digest()


def copy_entry(source_root: Path, target_root: Path, entry: Entry) -> bytes:
    """Copy a file or a link to the same place in another tree. Returns its digest."""
    source, target = source_root / entry.path, target_root / entry.path
    target.parent.mkdir(parents=True, exist_ok=True)
    if entry.kind == "link":
        target.symlink_to(source.readlink())
        assert entry.digest is not None
        return entry.digest
    return copy_file(source, target, entry.mode, flush=False)  # a clone that a crash cuts short is made anew


def copy_folders(source_root: Path, target_root: Path, relative: str) -> None:
    """Give the folders above `relative` in the target the rights they have in the source."""
    for parent in Path(relative).parents:
        source, target = source_root / parent, target_root / parent
        if str(parent) != "." and source.is_dir() and target.is_dir():
            target.chmod(source.stat().st_mode & 0o7777)
