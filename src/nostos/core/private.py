"""Folders that only their owner may look into."""

from __future__ import annotations

import os
from pathlib import Path


def make_private(folder: Path) -> None:
    """Make a folder and the missing ones above it, each with rights for its owner alone."""
    missing = []
    while not folder.exists():
        missing.append(folder)
        folder = folder.parent
    for path in reversed(missing):
        path.mkdir(mode=0o700, exist_ok=True)


def write_private(path: Path, content: bytes) -> None:
    """Write a file, all or nothing, that only its owner may read."""
    draft = path.with_name(path.name + ".new")
    descriptor = os.open(draft, os.O_WRONLY | os.O_CREAT | os.O_TRUNC, 0o600)
    with os.fdopen(descriptor, "wb") as file:
        file.write(content)
        file.flush()
        os.fsync(file.fileno())
    draft.replace(path)
