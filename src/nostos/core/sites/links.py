"""Links out of a site's folder that count as folders in it: pictures on another disk, or in shared storage."""

from __future__ import annotations

from collections.abc import Iterator, Sequence

from nostos.core.errors import SiteError
from nostos.core.files.tree import FileTree
from nostos.core.profiles.model import Profile


def own_links(tree: FileTree, profile: Profile) -> Iterator[tuple[str, str]]:
    """Links that the system uses as folders of its own for what is put up, and where they lead. Only what belongs to
    whom the link's folder belongs to is taken for that: whoever may write there could lead it anywhere."""
    folders = [path.split("/") for path in dict.fromkeys(f.folder for f in profile.files if f.folder)]
    ways = [["/".join(parts[:number]) for number in range(1, len(parts) + 1)] for parts in folders]
    links = [link for way in ways for link in way]
    with tree.looking_ahead([*(("led", link) for link in links),
                             *(("status", link.rpartition("/")[0]) for link in links)]):
        yield from _own(tree, ways)


def _own(tree: FileTree, ways: Sequence[Sequence[str]]) -> Iterator[tuple[str, str]]:
    for way in ways:
        for link in way:
            target = tree.led(link)
            above = tree.status(link.rpartition("/")[0])
            if target is not None:
                if above is not None and above.user == target[1].user:
                    yield link, target[0]
                break


def follow(tree: FileTree, paths: Sequence[str]) -> None:
    """Follow links that the administrator names, beside those that the system uses as its own. Raises SiteError."""
    more = {}
    for path in paths:
        target = tree.led(path.strip("/"))
        if target is None and path.strip("/") not in tree.followed:
            raise SiteError(f"{path} is no link to a folder in {tree.where}.", left="Nothing was made.",
                            next_step="Name a link by its path in the site's folder.")
        if target is not None:
            more[path.strip("/")] = target[0]
    tree.followed = {**tree.followed, **more}
