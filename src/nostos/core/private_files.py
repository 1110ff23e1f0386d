"""Folders and files that only their owner may look into, and that a power cut does not take away."""

from __future__ import annotations

import errno
import os
import secrets
from contextlib import suppress
from pathlib import Path


def make_private(folder: Path) -> None:
    """Make a folder and the missing ones above it, each with rights for its owner alone."""
    missing = []
    while not folder.exists():
        missing.append(folder)
        folder = folder.parent
    for path in reversed(missing):
        path.mkdir(mode=0o700, exist_ok=True)
        sync(path.parent)


def write_private(path: Path, content: bytes) -> None:
    """Write a file, all or nothing, that only its owner may read. In a folder that others may write in too, none of
    them can have laid anything in its way."""
    draft = path.with_name(f".{path.name[:80]}.{secrets.token_hex(8)}.new")
    descriptor = os.open(draft, os.O_WRONLY | os.O_CREAT | os.O_EXCL | os.O_NOFOLLOW | os.O_CLOEXEC, 0o600)
    try:
        with os.fdopen(descriptor, "wb") as file:
            file.write(content)
            file.flush()
            os.fsync(file.fileno())
        draft.replace(path)
    except BaseException:
        with suppress(OSError):
            draft.unlink()
        raise
    sync(path.parent)


def sync(folder: Path) -> None:
    """Flush a folder's names to disk, where its filesystem knows that."""
    try:
        descriptor = os.open(folder, os.O_RDONLY | os.O_DIRECTORY | os.O_CLOEXEC)
    except PermissionError:  # a folder above, that others own
        return
    try:
        sync_descriptor(descriptor)
    finally:
        os.close(descriptor)


def sync_descriptor(opened: int) -> None:
    """The same for an open folder."""
    try:
        os.fsync(opened)
    except OSError as error:
        if error.errno not in (errno.EINVAL, errno.ENOTSUP, errno.EBADF):
            raise
