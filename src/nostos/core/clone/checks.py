"""What keeps a copy from being made where it is asked for; nothing is touched."""

from __future__ import annotations

from collections.abc import Sequence

from nostos.core.database.registry import Location
from nostos.core.errors import SiteError
from nostos.core.files.entry import STAMP, FileEntry
from nostos.core.files.tree import SPARE
from nostos.core.files.trees import tree_at
from nostos.core.hosts.far_path import AnyPath, below
from nostos.core.sites.recognise import Site

_STANDING_IN = 5  # files


def check_places(live: Site, target: AnyPath, url: str, staging_db: Location, entries: Sequence[FileEntry],
                 over: bool) -> None:
    """Raise SiteError where a copy cannot be made in this folder and this database. over: what the folder holds may be
    set aside."""
    if target.exists() and not target.is_dir():
        raise SiteError(f"{target} is not a folder.", next_step="Name a folder that does not exist yet.")
    lies = tree_at(target).names("") if target.is_dir() else []
    if STAMP in lies:
        raise SiteError(f"The folder {target} is a staging copy already.", next_step="Name another folder.")
    if lies and not over:
        raise SiteError(f"The folder {target} is not empty.",
                        next_step="Name a new folder, or empty this one; with --over, what it holds is set aside.")
    inside = below(target, live.files.at) if live.has_files else None
    if inside is not None and lies and any(e.path.startswith(f"{inside}/") for e in entries) and not over:
        raise SiteError(f"The folder {target} is part of live's own tree.",
                        next_step="Name a folder in it that is not there yet, or one beside the live site.")
    if inside is not None and (live.files.disk_of(str(inside)) or not inside.parts):
        raise SiteError(f"The folder {target} cannot be a copy's: live's own files lie there.",
                        next_step="Name another folder in it, or one beside the live site.")
    needed = _needed_by_live(live, target, str(inside), entries) if inside is not None and lies else ""
    if needed:
        raise SiteError(f"The folder {target} cannot be a copy's: live needs what lies there, such as {needed}.",
                        next_step="Name another folder in it, or one beside the live site.")
    for tree in (live.files.at, live.home):
        if below(tree, target) is not None:
            raise SiteError(f"Live's own tree, {tree}, lies inside the folder {target}.",
                            next_step="Name a folder beside the live site.")
    if staging_db.same_as(live.database) and not staging_db.none:
        raise SiteError("Staging would use live's own database.",
                        next_step="Name another one with --database or --prefix, or leave both out.")
    if staging_db.file is not None and staging_db.file.exists():
        raise SiteError(f"There is a database at {staging_db.shown} already.", next_step="Name another one.")
    if url == live.url:
        raise SiteError("Staging would have live's own URL.", next_step="Give staging a URL of its own with --url.")
    parent = target
    while not parent.exists():
        parent = parent.parent
    if not tree_at(parent).may_write(""):
        raise SiteError(f"You may not write in {parent}.", next_step="Choose another folder, or ask for the right.")
    need = live.database.file.stat().st_size * 2 if live.database.file else 0
    need += sum(e.size for e in entries)
    free = tree_at(parent).free()
    if free < need + SPARE:
        raise SiteError(f"{parent} has {free >> 20} MB free, and the copy needs about {need >> 20} MB.",
                        next_step="Choose a folder on another disk, or leave folders out with --skip.")


def _needed_by_live(live: Site, target: AnyPath, inside: str, entries: Sequence[FileEntry]) -> str:
    """What live would miss if a folder of its tree were set aside; empty where nothing is known. What stands in for a
    copy there, as hosts put it into a new folder, is a few files and no more."""
    if live.database.file is not None and below(live.database.file, target) is not None:
        return str(live.database.file)
    folders = [f.parent.strip("/") for f in live.profile.folders]
    known = next((f for f in folders if f"{f}/".startswith(f"{inside}/") or f"{inside}/".startswith(f"{f}/")), "")
    if known:
        return known
    paths = [e.path for e in entries if e.path.startswith(f"{inside}/") and e.kind == "file"]
    deep = [p for p in paths if "/" in p.removeprefix(f"{inside}/")]
    return next(iter(deep or (paths if len(paths) > _STANDING_IN else ())), "")


def check_names(location: Location, names: Sequence[str]) -> None:
    """Raise SiteError when a table's name would be too long with the copy's prefix."""
    most = location.engine.longest_name
    long = sorted((n for n in names if most and len(location.prefix + n) > most), key=len, reverse=True)
    if long:
        raise SiteError(f"The table {location.prefix}{long[0]} would have a name of more than {most} characters.",
                        left="Live was only read; nothing of the copy is left.",
                        next_step="Choose a shorter prefix with --prefix.")
