"""Folders that only their owner may look into."""

from __future__ import annotations

from pathlib import Path


def make_private(folder: Path) -> None:
    """Make a folder and the missing ones above it, each with rights for its owner alone."""
    missing = []
    while not folder.exists():
        missing.append(folder)
        folder = folder.parent
    for path in reversed(missing):
        path.mkdir(mode=0o700, exist_ok=True)
