"""The one place where a tree is made out of a place."""

from __future__ import annotations

from nostos.core.files.local.tree import LocalTree
from nostos.core.files.remote.tree import FarTree
from nostos.core.files.tree import FileTree
from nostos.core.hosts.far_path import AnyPath, FarPath


def tree_at(root: AnyPath) -> FileTree:
    """The tree below a folder."""
    return FarTree(root) if isinstance(root, FarPath) else LocalTree(root)
