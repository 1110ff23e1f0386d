"""A site made anew out of a backup, where there is none: for another machine, or after everything was lost."""

from __future__ import annotations

from contextlib import suppress
from pathlib import Path

from nostos.core.backup import layout
from nostos.core.backup.archive import ArchiveReader
from nostos.core.backup.contents import Contents, Rows, read
from nostos.core.backup.layout import BackupError
from nostos.core.clone.copy_rows import Localiser
from nostos.core.database.registry import NONE, Location, MadePlace, engine, locate
from nostos.core.database.schema import Table
from nostos.core.errors import SiteError
from nostos.core.files.trees import tree_at
from nostos.core.hosts.far_path import AnyPath
from nostos.core.profiles import from_schema as deduce
from nostos.core.profiles import loader
from nostos.core.profiles.model import Profile
from nostos.core.sites.copy_configuration import CopyFacts, OriginalFile, adapt
from nostos.core.sites.recognise import Site, check_url, recognise
from nostos.core.sites.site_file import SITE_FILE
from nostos.core.values.urls import UrlForms

_FILE = "data/site.db"  # where a database goes that is a file, and of which nothing is said


def is_free(folder: AnyPath) -> bool:
    """Whether a site can be made there: nothing is there, or an empty folder."""
    return not folder.exists() or (folder.is_dir() and not tree_at(folder).names(""))


def make_place(path: Path, folder: AnyPath, url: str | None, database: str | None, prefix: str | None) -> Site:
    """Make an empty site that a backup can be restored into: its folder, its configuration and an empty database.

    url: where it will answer (None: where the old one did). database: its own, as a URL; on a server it must be there
    already, with no tables that begin with the prefix. Raises BackupError or SiteError with nothing left behind.
    """
    reader = ArchiveReader(path)
    try:
        contents = read(reader)
    finally:
        reader.close()
    folder = folder.resolve()
    tree = tree_at(folder)
    made = not folder.exists()
    address = check_url(url or contents.manifest.url)
    location = _location(contents, folder, database, prefix)
    beginning = set(tree.names(""))
    if made:
        tree.make_root()
        tree.give("", tree.owner(""), 0o755)
    try:
        return _make(path, contents, folder, address, location)
    except BaseException:
        with suppress(SiteError):
            names = [location.prefix + t.name for t in contents.outline.tables]
            location.engine.remove_place(location, MadePlace.TABLES, names, "")
        for name in set(tree.names("")) - beginning:
            tree.remove(name)
        if made:
            tree_at(folder.parent).remove_empty(folder.name)
        raise


def _location(contents: Contents, folder: AnyPath, database: str | None, prefix: str | None) -> Location:
    kind = engine(contents.outline.engine)
    if kind.name == NONE:
        return locate(NONE, folder)
    prefix = contents.manifest.prefix if prefix is None else prefix
    if database is None or "://" not in database:
        location = kind.at_path(database or _FILE, folder) if database or kind.is_file else None
        if location is None:
            raise SiteError("The backup's database was on a server, so a new one is needed there.",
                            next_step=f"Make an empty one and name it: --database {kind.example}.")
    else:
        location = locate(database, folder, "" if kind.is_file else prefix)
    if location.engine is not kind:
        raise SiteError(f"The backup's database was {kind.kept}.", next_step="Name one of that kind with --database.")
    kind.check_free(location)
    return location


def _make(path: Path, contents: Contents, folder: AnyPath, address: str, location: Location) -> Site:
    manifest = contents.manifest
    if not manifest.configuration:
        raise BackupError("The backup holds no configuration.", next_step="Write the site's configuration by hand.")
    profile = loader.built_in().get(manifest.profile)
    originals = {}
    for number, name in enumerate(manifest.configuration):
        here = name.removeprefix("../")
        held = contents.configuration.get(f"{number}-{Path(name).name}")
        if held is None:
            raise layout.damaged("its configuration is missing")
        originals[here] = OriginalFile(held)
    if manifest.files and manifest.tree != ".":
        tree_at(folder).make_above(f"{manifest.tree}/files", lambda _: (0o755, None))
    _first_tables(path, contents, location, address, profile)
    adapt(CopyFacts(folder, address, location, manifest.tree if manifest.files else None,
              location.prefix != manifest.prefix), originals, profile.configuration if profile else None)
    names = list(originals)
    return recognise(folder / names[0] if names[0].endswith(".toml") and names[0] != SITE_FILE and (
        profile is None or profile.configuration is None or names[0] != profile.configuration.file) else folder)


def _first_tables(path: Path, contents: Contents, location: Location, address: str, profile: Profile | None) -> None:
    """Tables without rows, but for the settings: by these the site is recognised."""
    if location.none:
        return
    database = location.engine.create(location)
    manifest = contents.manifest
    settings = profile.settings.table if profile is not None and profile.settings is not None else ""
    local = Localiser(UrlForms(manifest.url), UrlForms(address, also=(manifest.url,)),
                      (manifest.prefix, location.prefix), profile or deduce.NO_PROFILE)

    def rows(table: Table, some: Rows) -> None:
        if table.name == settings:
            database.insert_many(table, table.stored, [local.change(table, values) for values in some])

    reader = ArchiveReader(path)
    try:
        database.build(contents.outline)
        with database.writing():
            read(reader, rows)
    finally:
        reader.close()
        database.close()
    if location.file is not None:
        tree, name = tree_at(location.file.parent), location.file.name
        tree.give(name, tree.owner(name), 0o640)
