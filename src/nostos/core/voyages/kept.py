"""Where an operation keeps the files that it replaces.

With its journal; where the site is on another machine, there, in a private folder beside the site, so that they do not
travel. A note with the journal says where. They go when the journal does.
"""

from __future__ import annotations

import secrets
from collections.abc import Iterable
from contextlib import suppress
from pathlib import Path

from nostos.core.errors import HostError, NostosError
from nostos.core.files.entry import OWN_PREFIX
from nostos.core.files.tree import FileTree
from nostos.core.files.trees import tree_at
from nostos.core.hosts.connection import is_open
from nostos.core.hosts.far_path import AnyPath, FarPath, written
from nostos.core.private_files import write_private

BESIDE = f"{OWN_PREFIX}kept"  # the folder beside a site
_HERE = "before"
_NOTE = "kept.txt"


def place_of(folder: Path) -> AnyPath:
    """Where the operation whose journal is in a folder keeps what it replaces."""
    try:
        place = written((folder / _NOTE).read_text())
    except FileNotFoundError:
        return folder / _HERE
    if not isinstance(place, FarPath) or place.parent.name != BESIDE or not place.name.startswith(folder.name + "-"):
        raise HostError(f"{folder / _NOTE} does not name a place where files are kept.",
                        next_step="Look at what it says; nostos wrote the path of a folder there.")
    return place


def begin(folder: Path, site: FileTree) -> FileTree:
    """Make the place where an operation keeps what it replaces in a site's tree. Returns that place as a tree."""
    root = site.at
    if isinstance(root, FarPath) and root.parent != root:
        beside = root.parent / BESIDE
        # Nobody can guess its name, for the folder above a site's may be served, too.
        place = beside / f"{folder.name}-{secrets.token_hex(16)}"
        write_private(folder / _NOTE, str(place).encode())
        try:
            tree_at(beside).make_root()
            tree = tree_at(place)
            tree.make_root()
            return tree
        except OSError:  # nothing may be made there: it is kept here, as of any other site
            let_go(folder)
    tree = tree_at(folder / _HERE)
    tree.make_root()
    return tree


def let_go(folder: Path, connect: bool = True) -> bool:
    """Remove what an operation keeps on another machine; the rest goes with its journal. connect: False leaves alone
    what is on a machine that there is no connection to now. Returns whether nothing is left there. Raises NostosError
    or OSError where it cannot be removed."""
    place = place_of(folder)
    if isinstance(place, FarPath):
        if not connect and not is_open(place.host):
            return False
        tree_at(place.parent).remove(place.name)
        with suppress(OSError):  # others are kept there
            tree_at(place.parent.parent).remove_empty(BESIDE)
        (folder / _NOTE).unlink()
    return True


def let_go_all(merges: Path, sites: Iterable[AnyPath] = ()) -> list[str]:
    """Remove what all operations of a voyage keep on other machines. sites: the voyage's own, beside which there may
    also be what no note knows of any more: a helper that was cut off may have made it after it was let go. Returns what
    had to be left, and why."""
    left: dict[str, str] = {}
    folders = sorted(merges.glob("*/"))
    for folder in folders:
        place: AnyPath = folder
        try:
            place = place_of(folder)
            if not isinstance(place, FarPath) or place.host not in left:
                let_go(folder)
        except (NostosError, OSError) as error:
            where = place.host if isinstance(place, FarPath) else str(folder)
            left[where] = f"{place.parent if isinstance(place, FarPath) else place}: {_why(error)}"
    names = {f.name for f in folders}
    for beside in {site.parent for site in sites if names and isinstance(site, FarPath) and site.host not in left}:
        try:
            for name in tree_at(beside).names(BESIDE):
                if name.rpartition("-")[0] in names:
                    tree_at(beside).remove(f"{BESIDE}/{name}")
            tree_at(beside).remove_empty(BESIDE)
        except (NostosError, OSError) as error:
            left[beside.host] = f"{beside / BESIDE}: {_why(error)}"
    return list(left.values())


def _why(error: NostosError | OSError) -> str | None:
    return error.what if isinstance(error, NostosError) else error.strerror
