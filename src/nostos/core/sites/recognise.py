"""What a site is, and how one is recognised."""

from __future__ import annotations

import os
from collections.abc import Mapping
from dataclasses import field, replace
from pathlib import PurePosixPath
from typing import Any
from urllib.parse import urlsplit

from nostos.core.database.protocol import Database, explaining
from nostos.core.database.registry import NONE, Location, engine, locate
from nostos.core.database.schema import Table
from nostos.core.errors import SiteError
from nostos.core.expressions import expression
from nostos.core.files.entry import NO_FILES
from nostos.core.files.tree import FileTree
from nostos.core.files.trees import tree_at
from nostos.core.hosts.far_path import AnyPath, FarPath, below, foreseen, host_form, host_of, named, on_machine, written
from nostos.core.learning.findings import Layer, from_data
from nostos.core.profiles import from_schema as deduce
from nostos.core.profiles import loader
from nostos.core.profiles.model import Profile
from nostos.core.records import dataclass
from nostos.core.sites import env_file, php_arrays, php_configuration, python_settings
from nostos.core.sites import site_file as configuration
from nostos.core.sites.commands import AFTER, BEFORE, SERVE, Commands, commands_in
from nostos.core.sites.entities import with_entities
from nostos.core.sites.links import own_links

_URL = expression(r"[A-Za-z][A-Za-z0-9+]*://")


@dataclass(frozen=True)
class Site:
    """A database, a file tree and a base URL, of the kind that `profile` describes.

    home: the folder that holds the configuration files. files: the tree that belongs to the site.
    configuration_files: relative to `home`; they are the site's own and never travel.
    """

    name: str
    url: str
    home: AnyPath
    files: FileTree
    database: Location
    profile: Profile
    configuration_files: tuple[str, ...]
    guards: Mapping[str, Any] = field(default_factory=dict)
    site_file: bool = False
    profile_file: str = ""  # where the profile is, as the site file says it, if it is no built-in one
    adds: Layer | None = None  # what its administrator says of its meaning, in the site file
    uncopyable: str = ""  # why a copy would act on this very site, if it would
    commands: Commands | None = None  # to be run around operations
    further: tuple[str, ...] = ()  # addresses beside `url`, in the order that both sites of a voyage have them in

    @property
    def has_files(self) -> bool:
        """Whether any files belong to the site."""
        return self.files.has_files

    def open(self, readonly: bool = False) -> Database:
        """Open the site's database. Raises SiteError."""
        return self.database.open(readonly)

    def foreign_paths(self) -> tuple[str, ...]:
        """Paths in the tree that are not part of it: the database and its companions, configuration."""
        places = (*self.database.engine.companions(self.database),
                  *(self.home / name for name in self.configuration_files))
        with self.files.looking_ahead(("within", p) for p in places if host_of(p) == self.files.host):
            return tuple(path for place in places if (path := self.files.within(place)))

    def full_profile(self, tables: Mapping[str, Table]) -> Profile:
        """The profile completed with what the site file adds and with what the schema says."""
        if self.adds is None:
            return deduce.complete(self.profile, tables)
        base = loader.extended(self.profile, self.adds.adds) if self.adds.adds is not None else self.profile
        return replace(self.adds, adds=None).over(deduce.complete(base, tables))


def recognised_from(site: Site) -> str:
    """The path that a site is recognised from."""
    return str(site.home / site.configuration_files[0] if site.site_file else site.home)


def check_url(url: str) -> str:
    """A base URL without its last slash. Raises SiteError unless it is http or https with a host."""
    try:
        parts = urlsplit(url)
        valid = parts.scheme in ("http", "https") and bool(parts.hostname) and not parts.query and not parts.fragment
        _ = parts.port
    except ValueError:
        valid = False
    if not valid or parts.username:
        raise SiteError(f"{url!r} is not a base URL.", next_step="Write it like https://staging.example.")
    return url.rstrip("/")


def recognise(where: str | AnyPath) -> Site:
    """The site at a folder, or of a site file.

    Raises SiteError when there is nothing there, when no configuration is found or when it cannot be used.
    """
    path = written(str(where))
    with foreseen(path, _places()):
        return _recognise(path)


def _places() -> list[str]:
    """Where a site's configuration is looked for, as paths that begin at the site's folder, or at its site file."""
    files = [c.file for c in loader.configurations().values()]
    files += [env_file.NAME, env_file.PROGRAM, *(above + file for c in loader.configurations().values()
                                                 if c.format == "php-arrays" for above in php_arrays.FOLDERS
                                                 for file in (c.file, str(PurePosixPath(c.file).parent.parent)))]
    names = [configuration.SITE_FILE, *files, *(f for n in files for f in php_configuration.beside(n))]
    return [".", "..", *names, *(f"../{n}" for n in names)]


def _recognise(path: AnyPath) -> Site:
    if not path.exists():
        raise SiteError(f"There is no site at {path}.", next_step="Name the site's folder or its site file.")
    path = path.resolve()
    if path.is_file():
        return _from_site_file(path)
    if (path / configuration.SITE_FILE).is_file():
        return _from_site_file(path / configuration.SITE_FILE)
    system = _system_at(path)
    if system is None:
        python_settings.read(path)  # which says why it could not be told
        refused = env_file.refused(path)
        if refused is not None:
            raise refused
        raise SiteError(f"No site is recognised in {path}.",
                        next_step=f"Write a site file, {configuration.SITE_FILE}, there (docs/guide.md shows one).")
    if not system.url:
        raise SiteError(f"{path / system.own} does not say what the site's address is.",
                        next_step=f"Write a site file, {configuration.SITE_FILE}, beside it: [site] with its url.")
    return _checked(_described(path, system), looked=system.looked)


@dataclass(frozen=True)
class _SystemFacts:
    """What a system's own configuration file says. own: that file, relative to the site's files."""

    profile: Profile
    own: str
    name: str
    url: str
    database: Location
    included: tuple[str, ...] = ()  # files that it takes in, alike
    uncopyable: str = ""  # why a copy of it would act on the original
    looked: bool = True  # its database has been opened


def _uncopyable(php: php_configuration.PhpConfiguration, moved: Mapping[str, str]) -> str:
    """Why a copy with this configuration would act on the original; empty where it would not."""
    for usual, now in moved.items():
        if now.startswith("!"):
            return (f"{php.path.name} puts {usual} into {now[1:]}, outside the site's folder: a copy would write into "
                    "it, too")
    if php.computed:
        return f"{php.path.name} works {', '.join(php.computed)} out when it runs, so a copy may keep the original's"
    return ""


def _system_at(folder: AnyPath, location: Location | None = None) -> _SystemFacts | None:
    """The built-in profile whose configuration file is here, and what that file says. location: where the database
    is, if that is said elsewhere."""
    for system, c in loader.configurations().items():
        if c.format == "php-constants":
            file = php_configuration.find(folder, c.file)
            if file is not None:
                profile = loader.built_in()[system]
                facts = php_configuration.read(file, c.engine)
                name, url = php_configuration.settings(profile, facts)
                above = "" if file.parent == folder else "../"
                moved = php_configuration.moved_folders(facts, folder)
                return _SystemFacts(loader.relocated(profile, moved), above + c.file, name, url, facts.database,
                                    tuple(f"{above}{below(p, file.parent)}" for p in facts.included),
                                    _uncopyable(facts, moved))
        elif c.format == "php-arrays":
            said = php_arrays.find(folder, c.file, location)
            if said is not None:
                arrays = php_arrays.read(folder, said)
                profile = loader.relocated(_by_schema(arrays.database), arrays.moved)
                pages = "{files}/" + arrays.pages if arrays.pages else "{files}"
                profile = replace(profile, ignore=(*profile.ignore, *php_arrays.beside(folder, said)),
                                  serve=tuple(word.replace("{pages}", pages) for word in profile.serve))
                if profile.exported is not None:
                    profile = replace(profile, exported=replace(profile.exported, folder=arrays.exported))
                return _SystemFacts(profile, said, folder.name, arrays.address, arrays.database,
                                    arrays.included, arrays.uncopyable)
        elif (folder / c.file).is_file():
            data = configuration.read_toml(folder / c.file)
            values = []
            for key in (c.name, c.url, c.database):
                value = configuration.dotted(data, key)
                if not isinstance(value, str):
                    raise SiteError(f"{folder / c.file} does not say {key}.", next_step="Mend the file.")
                values.append(value)
            where = locate(values[2], folder) if "://" in values[2] else engine(c.engine).at_path(values[2], folder)
            return _SystemFacts(loader.built_in()[system], c.file, values[0], values[1], where, looked=False)
    found_env = env_file.read(folder)
    if found_env is not None:
        return _SystemFacts(_by_schema(found_env.database), env_file.NAME, found_env.name, found_env.url,
                            found_env.database)
    try:
        settings = python_settings.read(folder)
    except python_settings.NotTold:
        return None
    if settings is None:
        return None
    database = location or settings.database
    address = settings.url or _said_address(database)
    if address is None:
        raise SiteError(f"It is not known what the address of the site in {folder} is.",
                        next_step=f"Say {env_file.ADDRESSES[0]} in its settings, or write a nostos.toml there.")
    return _SystemFacts(_by_schema(database), settings.own[0], settings.name, address, database, settings.own[1:],
                        settings.uncopyable)


def _said_address(location: Location) -> str | None:
    """The address that a project's database gives its site."""
    opened = location.open(readonly=True)
    try:
        with explaining(opened):
            table = opened.tables().get("wagtailcore_site")
            rows = opened.find(table, {"is_default_site": 1}) if table is not None else []
    finally:
        opened.close()
    if not rows:
        return None
    host, port = str(rows[0].get("hostname")), str(rows[0].get("port") or 80)
    scheme, end = ("https", "") if port == "443" else ("http", "" if port == "80" else f":{port}")
    return f"{scheme}://{host}{end}"


def _by_schema(location: Location) -> Profile:
    """The built-in profile that a database's tables speak of."""
    opened = location.open(readonly=True)
    try:
        with explaining(opened):
            return deduce.recognise(opened.tables(), loader.built_in())
    finally:
        opened.close()


def _from_site_file(path: AnyPath) -> Site:
    content, read = configuration.whose(path)
    data = configuration.toml(path, content)
    said_commands = commands_in(data, path, read)
    data = {k: v for k, v in data.items() if k not in (BEFORE, AFTER, SERVE)}
    section = data.get("site")
    if section is None and (beside := _system_at(path.parent)) is not None:  # it merely adds to what is recognised
        site = _described(path.parent, beside)
        return _checked(replace(site, configuration_files=(*site.configuration_files, path.name),
                                adds=_adds(data, path), commands=said_commands), looked=beside.looked)
    if not isinstance(section, dict):
        raise SiteError(f"{path} has no [site] part.", next_step="docs/guide.md shows a site file.")
    folder = path.parent
    said_files = configuration.expand(str(section.get("files", ".")), path)
    third = host_form(said_files)
    if third is not None:
        _own_machine(folder, third[0])
    files = folder / NO_FILES if said_files == NONE else named(folder, said_files).resolve()
    if said_files != NONE and not tree_at(files).is_folder(""):
        raise SiteError(f"The site's files, {files}, are not a folder.", next_step=f"Check `files` in {path}.")
    location = _database(configuration.expand(str(section["database"]), path), folder, str(section.get("prefix", ""))
                      ) if "database" in section else None
    system = _system_at(files, location) if said_files != NONE else None

    def document(key: str, other: str | None) -> str:
        if key in section:
            return configuration.expand(str(section[key]), path)
        if other is None:
            raise SiteError(f"{path} does not say the site's {key}.", next_step=f"Add `{key}` to [site].")
        return other

    name = document("name", system.name if system else None)
    url = document("url", system.url or None if system else None)
    looked = False
    if location is not None or system is None:
        database = location or _database(document("database", None), folder, str(section.get("prefix", "")))
    else:
        database, looked = system.database, system.looked
    if "profile" in section:
        profile = loader.load(str(section["profile"]), folder)
    elif system:
        profile = system.profile
    else:
        profile, looked = _by_schema(database), True
    said_profile = str(section.get("profile", ""))
    profile_file = said_profile if said_profile.endswith(".toml") else ""
    visitors = section.get("visitors", data.get("visitors", []))
    guards = data.get("guards", {}).get("settings", {})
    if database.none and said_files == NONE:
        raise SiteError(f"{path} names neither a database nor files.", next_step="Name one of them.")
    if guards and not profile.settings:
        raise SiteError(f"{path} names guards, but it is not known where this site keeps its settings.",
                        next_step="Name a profile that says so, or leave [guards] out.")
    names = [path.name]
    if system and below(files, folder) is not None:
        names += [os.path.relpath(on_machine(files / name), on_machine(folder))
                for name in (system.own, *system.included)]
    more = {k: v for k, v in data.items() if k not in ("site", "guards", "visitors")}
    return _checked(Site(name, url, folder, tree_at(files), database, profile, tuple(names), guards, True, profile_file,
                         _adds(more, path), system.uncopyable if system else "", said_commands),
                    tuple(map(str, visitors)), looked)


def _described(path: AnyPath, system: _SystemFacts) -> Site:
    """The site that a system's own configuration describes."""
    return Site(system.name, system.url, path, tree_at(path), system.database, system.profile,
                (system.own, *system.included), uncopyable=system.uncopyable)


def _own_machine(folder: AnyPath, host: str) -> None:
    """A file of another machine does not decide which machines are connected to from here, with this user's keys."""
    if host_of(folder) and host != host_of(folder):
        raise SiteError(f"The site file on {host_of(folder)} leads to a third machine, {host}.",
                        left="Nothing was read there.",
                        next_step="Write a site file here that names both, if that is meant.")


def _database(text: str, folder: AnyPath, prefix: str) -> Location:
    """The database that a site file names: as its own machine sees it, or, after `user@host:`, another."""
    form = host_form(text) if not _URL.match(text) else None
    if form is not None:
        _own_machine(folder, form[0])
        folder, text = FarPath(form[0], PurePosixPath("/")), form[1]
        text = text if _URL.match(text) else f"sqlite:///{text}"
    return locate(text, folder, prefix)


def _adds(data: Mapping[str, Any], path: AnyPath) -> Layer | None:
    """What a site file says of the meaning of the site, beside what it is."""
    try:
        return from_data(data, path.name) if data else None
    except (ValueError, TypeError, AttributeError) as error:
        raise SiteError(f"{path} cannot be used: {error}.", next_step="Mend the file.") from error


def _checked(site: Site, visitors: tuple[str, ...] = (), looked: bool = False) -> Site:
    """A site as it was described, whose database and address are looked at. visitors: further kinds that count as
    visitors'. looked: the database has been opened already. Raises SiteError."""
    profile = site.profile
    site = replace(site, database=replace(site.database, own_set=profile.recognise_tables, given=profile.given))
    if visitors or not looked or profile.entities:
        database = site.open(readonly=True)  # says so when it is missing or is no database
        try:
            # Kinds that no profile names are known only with the schema, and `visitors` may name those.
            with explaining(database):
                tables = database.tables() if visitors or profile.entities else {}
                if profile.entities:
                    profile = with_entities(profile, database, tables)
                profile = deduce.complete(profile, tables).with_visitors(visitors) if visitors else profile
        finally:
            database.close()
    site.files.followed = dict(own_links(site.files, site.profile))
    return replace(site, url=check_url(site.url), profile=profile)
