"""The one place where a tree is made out of a place."""

from __future__ import annotations

from pathlib import Path

from nostos.core.files.local.tree import LocalTree
from nostos.core.files.tree import FileTree


def tree_at(root: Path) -> FileTree:
    """The tree below a folder."""
    return LocalTree(root)
