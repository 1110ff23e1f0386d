"""PHP configuration that fills arrays, `$databases['default']['default'] = [...]`: read as text, never run, and written
anew.

Assignments to variables and to what is in them are followed, through the files beside it that a configuration takes in;
what would have to be run to be known is not known.
"""

from __future__ import annotations

import re
import secrets
from collections.abc import Callable, Iterator, Mapping
from contextlib import suppress
from dataclasses import field
from pathlib import Path, PurePosixPath
from typing import Any

from nostos.core.database.registry import Location, locate
from nostos.core.database.url import DatabaseUrl
from nostos.core.errors import SiteError
from nostos.core.expressions import expression
from nostos.core.files.trees import tree_at
from nostos.core.hosts.far_path import AnyPath, below, host_of, on_host, on_machine
from nostos.core.records import dataclass
from nostos.core.sites.php_configuration import COMMENT, STRING, Change, changed, quoted, unquoted
from nostos.core.sites.site_file import read_bounded

FOLDERS = ("", "web/", "docroot/", "public/", "html/", "htdocs/", "httpdocs/", "public_html/")  # where pages are served
_ASSIGNED = expression(rf"\$(\w+)((?:\s*\[\s*(?:{STRING}|\d+)?\s*\])*)\s*=(?![=>])\s*")
_KEY = expression(rf"\[\s*({STRING}|\d+)?\s*\]")
_TOKEN = expression(rf"\s*(?:({STRING})|(array\s*\(|\[)|([)\]])|(=>)|(,)|([-\w.:\\]+(?:\s*\(\s*(?:{STRING})?\s*\)"
                    rf"(?:\s*\?:\s*(?:{STRING}))?)?)|(;))")
_END, _CLOSING = expression(r"\s*;"), expression(r"[,)\]]")
_INCLUDE = expression(rf"\b(?:require|include)(?:_once)?\b[^;]*?({STRING})\s*\)?\s*;")
_ENGINES = {"mysql": "mysql", "pgsql": "postgresql", "sqlite": "sqlite"}
_HOST = expression(r"\^?([a-z0-9-]+(?:\\?\.[a-z0-9-]+)+)\$?")
_USUAL = ("modules", "themes", "profiles", "core", "sites", "includes")
_SECRET = ("database", "username", "password", "host", "port", "unix_socket")
_FILE = expression(r"\.(?:php|yml|txt|md)$")  # what beside the sites' folders is none
_DEFAULT, _HOSTS = "default", "sites.php"
GUARDED = "mail and scheduled jobs off, and a mark in the site's name"


@dataclass(frozen=True)
class Literal:
    """A literal of a file, and where it stands in it."""

    value: str
    start: int
    end: int


@dataclass(frozen=True)
class PhpArrays:
    """What such a configuration says. address: empty where it says none."""

    database: Location
    address: str
    included: tuple[str, ...] = ()
    uncopyable: str = ""
    moved: Mapping[str, str] = field(default_factory=dict)  # the usual folders that are elsewhere, and where
    pages: str = ""  # the folder that pages are served from; empty for the site's own
    exported: str = ""  # the folder of files in which configuration is kept, too


def find(folder: AnyPath, name: str, wanted: Location | None = None) -> str | None:
    """The configuration file of a site, relative to its folder; None where there is none. wanted: the database that it
    is to name, where there are several for several sites. Raises SiteError where it is not told which is meant."""
    for above in FOLDERS:
        every = {at: folder / at for at in _sites(folder, above, name)}
        if len(every) > 1 and wanted is not None:
            return next((at for at in every if _is_of(wanted, folder, at)), None)
        if above + name in every or len(every) == 1:
            return above + name if above + name in every else next(iter(every))
        if every:
            raise SiteError(f"There are several sites in {folder}: {', '.join(p.parent.name for p in every.values())}.",
                            next_step="Write a site file, nostos.toml, there, with the `url` and the `database` of the "
                                      "one that is meant (docs/drupal.md).")
    return None


def beside(folder: AnyPath, file: str) -> tuple[str, ...]:
    """What lies beside a site's own folder and is other sites', relative to the installation's folder: their folders,
    and the list of which host is which site. file: as `find` gave it."""
    sites = PurePosixPath(file).parent.parent
    above = "" if sites.parent == PurePosixPath() else f"{sites.parent}/"
    others = [str(PurePosixPath(at).parent) for at in _sites(folder, above, file.removeprefix(above)) if at != file]
    return (*others, *((f"{sites}/{_HOSTS}",) if others or PurePosixPath(file).parent.name != _DEFAULT else ()))


def _sites(folder: AnyPath, above: str, name: str) -> list[str]:
    """The configuration files of all sites of an installation. name: the usual one's, or one of them."""
    sites, file = f"{above}{PurePosixPath(name).parent.parent}", PurePosixPath(name).name
    found = tree_at(folder).names(sites) if (folder / sites).is_dir() else []
    places = [f"{sites}/{site}/{file}" for site in sorted(found) if not _FILE.search(site)]
    return [at for at in places if (folder / at).is_file() and _databases(folder / at)]


def _is_of(wanted: Location, folder: AnyPath, at: str) -> bool:
    with suppress(SiteError):
        said = read(folder, at).database
        return (said.url.database, said.prefix) == (wanted.url.database, wanted.prefix)
    return False


def hosts(name: str, url: str) -> tuple[str, str] | None:
    """Where the system looks up which site a host is, and what a copy's says; None where its own folder is the usual
    one. name: the copy's own configuration file."""
    site = PurePosixPath(name).parent
    if site.name == _DEFAULT:
        return None
    host, _, path = url.partition("://")[2].partition("/")
    key = ".".join([*reversed(host.split(":")), *(p for p in path.split("/") if p)])
    said = f"$sites[{quoted(key)}] = {quoted(site.name)};"
    return f"{site.parent}/{_HOSTS}", f"<?php\n// Which site this copy is.\n{said}\n"


def _databases(path: AnyPath) -> bool:
    return any(name == "databases" for text in _texts(path).values() for name, *_ in _assignments(text))


def read(folder: AnyPath, file: str) -> PhpArrays:
    """What the configuration says. file: as `find` gave it. Raises SiteError where it does not say where the database
    is in a way that can be read."""
    path = folder / file
    texts = _texts(path)
    said: dict[str, Any] = {}
    for text in texts.values():
        for name, keys, value in _assignments(text):
            _put(said, (name, *keys), value)
    default = _at(said, "databases", "default", "default")
    words = {k: v.value for k, v in default.items() if isinstance(v, Literal)} if isinstance(default, dict) else {}
    engine = _ENGINES.get(words.get("driver", "mysql"))
    if engine is None or "database" not in words:
        raise SiteError(f"{path} does not say where its database is in a way that can be read without running it.",
                        next_step="Write it as plain text there, or write a site file (docs/drupal.md).")
    prefix = words.get("prefix", "")
    root = path.parent.parent.parent
    if engine == "sqlite":
        location = locate(f"sqlite:///{words['database']}", root, prefix)
    else:
        url = DatabaseUrl(engine, words.get("username"), words.get("password"), words.get("host") or "localhost",
                          int(words["port"]) if words.get("port", "").isdigit() else None, words["database"],
                          {"unix_socket": words["unix_socket"]} if words.get("unix_socket") else {})
        location = locate(url.render_as_string(hide_password=False), path.parent, prefix)
    included = [inside for p in texts if p != path and (inside := below(p, folder)) is not None]
    return PhpArrays(location, _address(said), tuple(map(str, included)),
                     _uncopyable(said, folder, path), _moved(said, file),
                     "" if root == folder else str(below(root, folder) or ""), _exported(said, folder, root))


def _moved(said: Mapping[str, Any], file: str) -> dict[str, str]:
    """Where the usual folders of a site are, if elsewhere: below the one that pages are served from."""
    sites = Path(file).parent
    above = "" if sites.parent.parent == Path() else f"{sites.parent.parent.as_posix()}/"
    moved = {name: above + name for name in _USUAL if above}
    public = _at(said, "settings", "file_public_path")
    uploads = public.value.strip("/") if isinstance(public, Literal) and not public.value.startswith("/") else (
        f"sites/{sites.name}/files")
    if above or uploads != "sites/default/files":
        moved["sites/default/files"] = above + uploads
    return moved


def _exported(said: Mapping[str, Any], folder: AnyPath, root: AnyPath) -> str:
    """Where configuration is kept in files, if that is within the site's folder; empty else. root: what the path that
    is said begins at."""
    value = _at(said, "settings", "config_sync_directory")
    inside = below((root / value.value).resolve(), folder.resolve()) if isinstance(value, Literal) else None
    return "" if inside is None else str(inside)


def _address(said: Mapping[str, Any]) -> str:
    base = _at(said, "base_url")
    if isinstance(base, Literal):
        return base.value
    trusted = _at(said, "settings", "trusted_host_patterns")
    hosts = [m.group(1).replace("\\", "") for v in trusted.values() if isinstance(v, Literal) and (
        m := _HOST.fullmatch(v.value))] if isinstance(trusted, dict) else []
    named = [h for h in hosts if not re.fullmatch(r"[\d.]+|localhost", h)]
    return f"https://{min(named, key=len)}" if named else ""


def _uncopyable(said: Mapping[str, Any], folder: AnyPath, path: AnyPath) -> str:
    for name in ("file_private_path", "file_public_path"):
        value = _at(said, "settings", name)
        if isinstance(value, Literal) and value.value.startswith("/"):
            place = on_host(host_of(folder), value.value)
            if below(place.resolve(), folder.resolve()) is None:
                return (f"{path.name} puts {name} into {value.value}, outside the site's folder: a copy would write "
                        "into it, too")
    return ""


def _texts(path: AnyPath) -> dict[AnyPath, str]:
    """A configuration, and the files beside it that it takes in, each read once."""
    texts = {path: _text(path)}
    for literal in _INCLUDE.findall(texts[path]):
        file = path.parent / Path(unquoted(literal)).name
        if file.name.endswith(".php") and file not in texts and file.is_file():
            texts[file] = _text(file)
    return texts


def _text(path: AnyPath) -> str:
    return _without_comments(read_bounded(path).decode("utf-8", "surrogateescape"))


def _without_comments(text: str) -> str:
    """The text with its comments blank, so that everything stays where it is."""
    return COMMENT.sub(lambda m: m.group(1) or re.sub(r"[^\n]", " ", m.group()), text)


def _assignments(text: str) -> Iterator[tuple[str, tuple[str, ...], Any]]:
    """Every assignment of a text without comments: the variable, the keys of what is in it, and the value."""
    for match in _ASSIGNED.finditer(text):
        keys = tuple(unquoted(k) if k[:1] in "'\"" and k else k for k in _KEY.findall(match.group(2)))
        value, end = _read(text, match.end())
        if _END.match(text, end):
            yield match.group(1), keys, value


def _read(text: str, at: int) -> tuple[Any, int]:
    """The value that begins at a place, and where it ends: a dict by keys, a Literal, or None where it would have to be
    run."""
    token = _TOKEN.match(text, at)
    if token is None or token.group(7):
        return None, at
    if token.group(1) or token.group(6):
        written = token.group(1) or token.group(6)
        start = token.start(1) if token.group(1) else token.start(6)
        known = unquoted(written) if token.group(1) else written if re.fullmatch(r"-?\d+", written) else None
        return None if known is None else Literal(known, start, start + len(written)), token.end()
    if not token.group(2):
        return None, at
    entries: dict[str, Any] = {}
    at = token.end()
    while True:
        end = _TOKEN.match(text, at)
        if end is None:
            return None, at
        if end.group(3):
            return entries, end.end()
        if end.group(5):
            at = end.end()
            continue
        value, after = _read(text, at)
        if after == at:
            return None, at
        arrow = _TOKEN.match(text, after)
        if arrow is not None and arrow.group(4):
            key = value.value if isinstance(value, Literal) else ""
            value, after = _read(text, arrow.end())
        else:
            key = str(len(entries))
        entries[key] = value
        rest = _TOKEN.match(text, after)
        if rest is None or not (rest.group(3) or rest.group(5)):
            entries[key] = None  # more than a literal: it would have to be run
            closing = _CLOSING.search(text, after)
            if closing is None:
                return None, after
            after = closing.start()
        at = after


def _put(said: dict[str, Any], keys: tuple[str, ...], value: Any) -> None:
    for key in keys[:-1]:
        inner = said.get(key)
        if not isinstance(inner, dict):
            inner = said[key] = {}
        said = inner
    said[keys[-1] or str(len(said))] = value


def _at(said: Any, *keys: str) -> Any:
    for key in keys:
        said = said.get(key) if isinstance(said, dict) else None
    return said


def is_one(name: str) -> bool:
    """Whether a path is that of such a configuration."""
    return Path(name).name == "settings.php" and Path(name).parent.parent.name == "sites"


def rewritten(content: bytes, location: Location, url: str, guards: str | None, written: Callable[[str], str] = str
              ) -> bytes:
    """A file of the configuration in a copy's own words. Whatever it says of any database is the copy's, or nothing.
    guards: of the main file, which ends with what the copy alone has: its database, its address, a salt, and these (see
    `guarded`); None: another file. written: makes the other texts the copy's."""
    text = content.decode("utf-8", "surrogateescape")
    words = _words(location)
    changes: list[Change] = []
    for name, keys, value in _assignments(_without_comments(text)):
        if name == "databases":
            own = not keys or keys[0] == "default"
            for path, literal in _leaves(value, keys):
                if path[-1] in _SECRET:
                    mine = own and path[0] == "default"
                    changes.append((literal.start, literal.end, quoted(words.get(path[-1], "") if mine else "")))
    text = changed(text, changes, written)
    if guards is not None:
        text = re.sub(r"\?>\s*\Z", "", text).rstrip() + "\n" + _own(url, words) + guards
    return text.encode("utf-8", "surrogateescape")


def _leaves(value: Any, path: tuple[str, ...]) -> Iterator[tuple[tuple[str, ...], Literal]]:
    if isinstance(value, Literal):
        yield path, value
    elif isinstance(value, dict):
        for key, part in value.items():
            yield from _leaves(part, (*path, key))


def _words(location: Location) -> dict[str, str]:
    """A database, as such a file says it."""
    if location.file is not None:
        return {"driver": "sqlite", "database": str(on_machine(location.file)), "prefix": location.prefix}
    url = location.url
    driver = next(d for d, e in _ENGINES.items() if e == url.drivername)
    words = {"driver": driver, "database": str(url.database), "username": url.username or "",
             "password": url.password or "", "host": url.host or "localhost", "prefix": location.prefix}
    if url.port:
        words["port"] = str(url.port)
    if url.query.get("unix_socket"):
        words["unix_socket"] = str(url.query["unix_socket"])
    return words


def _own(url: str, words: Mapping[str, str]) -> str:
    """What a copy alone has: it stands last, so that it counts."""
    host = re.escape(url.partition("://")[2].partition("/")[0].partition(":")[0])
    own = "".join(f"$databases['default']['default'][{quoted(k)}] = {quoted(v)};\n" for k, v in words.items())
    return ("\n// This is a copy: its own database and address.\n"
            "$databases = ['default' => ['default' => array_diff_key($databases['default']['default'], array_flip(["
            f"{', '.join(map(quoted, _SECRET))}]))]];\n{own}"
            f"$base_url = {quoted(url)};\n"
            f"$settings['trusted_host_patterns'] = [{quoted(f'^{host}$')}];\n"
            f"$settings['hash_salt'] = $drupal_hash_salt = {quoted(secrets.token_hex(32))};\n")


def guarded(marked: bool) -> str:
    """What keeps a copy from acting as live. marked: its pages say that it is a copy."""
    return ("$config['system.mail']['interface']['default'] = 'test_mail_collector';\n"
            "$conf['mail_system'] = ['default-system' => 'TestingMailSystem'];\n"
            "$config['automated_cron.settings']['interval'] = $conf['cron_safe_threshold'] = 0;\n"
            + ("$config['system.site']['name'] = $conf['site_name'] = 'Staging copy';\n" if marked else ""))
