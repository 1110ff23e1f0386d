"""Removing a staging copy and everything that was made for it."""

from __future__ import annotations

from contextlib import suppress
from dataclasses import replace

from nostos.core.database.registry import MadePlace, engine
from nostos.core.errors import RecoverNeeded, SiteError
from nostos.core.files.entry import OWN_PREFIX, STAMP
from nostos.core.files.tree import FileTree
from nostos.core.files.trees import tree_at
from nostos.core.hosts.far_path import host_of, on_host, written
from nostos.core.sites.recognise import recognise
from nostos.core.voyages import kept
from nostos.core.voyages.home import Home, Voyage, VoyageState
from nostos.core.voyages.journal import needed

ASIDE = f"{OWN_PREFIX}before"  # what lay in a copy's folder before
BACK = f"{OWN_PREFIX}back"  # the same, while it is being set aside, and once the copy is gone


def check_removable(home: Home, name: str) -> None:
    """Raise RecoverNeeded when something that a voyage began on live is unfinished: its journal is needed for that."""
    if needed(home.folder(name)):
        raise RecoverNeeded(f"An operation of voyage {name} was interrupted, and live may need it finished.",
                            next_step=f"Run `nostos recover {name}` first.")


def remove(home: Home, voyage: Voyage) -> list[str]:
    """Remove everything that clone made for a voyage. Returns what was left in place, and why. The voyage is held by
    the caller. Raises RecoverNeeded, with nothing removed, while live needs its journal."""
    check_removable(home, voyage.name)
    left = []
    target = written(voyage.into)
    tree = tree_at(target)
    left += _remove_rows(voyage)
    stamp = target / STAMP
    if target.exists():
        # A clone that was cut short at its very first step may have left a stamp without its text.
        begun = voyage.state is not VoyageState.READY and tree.names("") == [STAMP]
        if begun or (stamp.is_file() and tree.read(STAMP, 256).decode("ascii", "replace").strip() == voyage.id):
            _clear(tree)
            if BACK in tree.names(""):
                put_back(tree)
            else:
                tree_at(target.parent).remove(target.name)
        elif BACK in tree.names(""):
            put_back(tree)
        elif tree.names(""):
            left.append(f"{target}: it does not bear this voyage's stamp")
        else:
            tree_at(target.parent).remove_empty(target.name)
    left += kept.let_go_all(home.folder(voyage.name) / "merges", (written(voyage.live), target))
    home.forget(voyage.name)
    return left


def _clear(tree: FileTree) -> None:
    """Remove a copy, but for its stamp: as long as that is there, this can be done again."""
    if BACK in tree.names(""):
        return  # this was done before
    for name in tree.names(""):
        if name not in (STAMP, ASIDE):
            tree.remove(name)
    if ASIDE in tree.names(""):
        tree.move(ASIDE, BACK)


def set_aside(tree: FileTree) -> None:
    """Set aside what lies in a folder, but for the stamp. Until all of it is, nothing else there is a copy's."""
    tree.make_folder(BACK, 0o700)
    for name in tree.names(""):
        if name not in (STAMP, BACK):
            tree.move(name, f"{BACK}/{name}")
    tree.move(BACK, ASIDE)
    tree.sync("")


def put_back(tree: FileTree) -> None:
    """Put what was set aside into its place again. Its folder goes last: by that it is known that this was begun."""
    for name in tree.names(BACK):
        tree.move_new(f"{BACK}/{name}", name)
    tree.remove(STAMP)
    tree.remove_empty(BACK)
    tree.sync("")


def _remove_rows(voyage: Voyage) -> list[str]:
    """Remove staging's rows. Returns what had to be left."""
    if voyage.made in ("", MadePlace.NOTHING):
        return []
    if voyage.made == MadePlace.FILE:
        location = engine(voyage.engine).at_path(voyage.place, on_host(host_of(written(voyage.into)), "/"))
    else:
        # Credentials are never kept in a voyage's record: they are read where the site itself has them.
        try:
            site = recognise(voyage.staging if voyage.elsewhere else voyage.live)
        except SiteError as error:
            return [f"{voyage.database}: {error.what}"]
        location = replace(site.database.engine.at_place(site.database, voyage.place), prefix=voyage.prefix)
        with suppress(SiteError):  # live may be gone
            if location.same_as(recognise(voyage.live).database):
                return [f"{voyage.database}: it is live's own"]
    try:
        if voyage.made == MadePlace.BEGUN:
            return [f"{location.shown}: there is something in it, such as {name}"
                    for name in location.engine.remove_begun(location)[:1]]
        left = location.engine.remove_place(location, MadePlace(voyage.made), voyage.tables, voyage.user)
        if left and voyage.alone:
            left = location.engine.remove_place(location, MadePlace(voyage.made), left, "")
    except SiteError as error:
        return [f"{voyage.database}: {error.what}"]
    return [f"the table {name}: it was not there when the copy was made; drop it by hand if it is staging's"
            for name in left]
