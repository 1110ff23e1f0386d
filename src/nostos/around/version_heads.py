"""Where a site's core, extensions and themes write their versions, and what they say."""

from __future__ import annotations

import re
from collections.abc import Iterator
from fnmatch import fnmatchcase

from nostos.core.files.tree import FileTree
from nostos.core.profiles.model import Profile
from nostos.core.profiles.parts import Folder
from nostos.core.records import dataclass

HEAD = 8192  # bytes of a file that are looked at, as the systems themselves do


@dataclass(frozen=True)
class VersionedPart:
    """A core, an extension or a theme: its kind and name, and the version that it says it has; empty: none."""

    kind: str
    name: str
    version: str


def version_in(folder: Folder, tree: FileTree, root: str) -> str:
    """The version that the item in this folder of a tree says it has; empty when it says none."""
    if folder.version is None:
        return ""
    for name in tree.names(root):
        if not fnmatchcase(name, folder.version.files):
            continue
        path = f"{root}/{name}".lstrip("/")
        try:
            if not tree.is_file(path):
                continue
            head = tree.read(path, HEAD).decode("utf-8", "replace")
        except OSError:
            continue
        match = re.search(folder.version.pattern, head, re.MULTILINE)
        if match:
            return match.group(1).strip()[:40]
    return ""


def is_part(folder: Folder, tree: FileTree, root: str) -> bool:
    """Whether a folder of a tree is an item of this kind."""
    return tree.is_folder(root) and (not folder.manifest or tree.is_file(f"{root}/{folder.manifest}"))


def parts(profile: Profile, files: FileTree) -> Iterator[VersionedPart]:
    """Every core, extension and theme in a tree, by its folders."""
    seen = set()
    for folder in profile.folders:
        for name in [folder.only] if folder.only else files.names(folder.parent):
            root = f"{folder.parent}/{name}".lstrip("/")
            if not is_part(folder, files, root):
                continue
            version = version_in(folder, files, root)
            if folder.only and not version:
                continue  # a core may have several folders; one of them says which it is
            part = VersionedPart(folder.kind, name, version)
            if part not in seen:
                seen.add(part)
                yield part
