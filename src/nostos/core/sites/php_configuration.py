"""The PHP configuration file of the content management system: read as text, never run, and written anew."""

from __future__ import annotations

import re
from collections.abc import Callable, Mapping, Sequence

from nostos.core.database.protocol import explaining
from nostos.core.database.registry import Location, locate
from nostos.core.database.url import DatabaseUrl
from nostos.core.errors import SiteError
from nostos.core.expressions import expression
from nostos.core.hosts.far_path import AnyPath, below, host_of, on_host, on_machine
from nostos.core.hosts.running import variable
from nostos.core.profiles.model import Profile
from nostos.core.records import dataclass
from nostos.core.sites.site_file import read_bounded

STRING = r"'(?:[^'\\]|\\.)*'|\"(?:[^\"\\]|\\.)*\""
# What never ends is read to the end of the text, once: not from each quote in it anew.
COMMENT = expression(r"('(?:[^'\\]|\\.)*(?:'|\\?\Z)|\"(?:[^\"\\]|\\.)*(?:\"|\\?\Z))|/\*.*?(?:\*/|\Z)|(?://|#(?!\[))[^\n]*",
                      re.DOTALL)
_DEFINE = expression(rf"\bdefine\s*\(\s*({STRING})\s*,\s*({STRING}|[A-Za-z_][^;]{{0,500}}?)\s*\)\s*;", re.DOTALL)
_PREFIX = expression(rf"\$table_prefix\s*=\s*({STRING}|[^;]*?)\s*;")
_ENVIRONMENT = expression(rf"(?:\bgetenv\s*\(\s*({STRING})\s*\)|\$_(?:ENV|SERVER)\s*\[\s*({STRING})\s*\])"
                          rf"(?:\s*\?[:?]\s*({STRING}))?")


Change = tuple[int, int, str]  # from where to where in a text, and what stands there then


@dataclass(frozen=True)
class PhpConfiguration:
    """What the file says: where it is, its constants, and where the database is."""

    path: AnyPath
    constants: Mapping[str, str]
    database: Location
    included: tuple[AnyPath, ...] = ()  # files that it takes in, and that say the rest
    computed: tuple[str, ...] = ()  # constants that name a folder or an address, and would have to be run


def beside(name: str) -> tuple[str, ...]:
    """The files by which it is known that a site lives in a folder."""
    return ("wp-settings.php",) if name == "wp-config.php" else ()


def find(folder: AnyPath, name: str) -> AnyPath | None:
    """The configuration file of a site: in its folder, or one folder up where no other site lives."""
    if (folder / name).is_file():
        return folder / name
    above = folder.parent / name
    lives_here = (folder / "wp-settings.php").is_file()
    return above if lives_here and above.is_file() and not (folder.parent / "wp-settings.php").exists() else None


def read(path: AnyPath, engine: str) -> PhpConfiguration:
    """Read the file. engine: of the database that its constants lead to.

    Raises SiteError when it cannot be read or does not say where the database is."""
    text = _text(path)
    included = _included(path, text)
    constants: dict[str, str] = {}
    computed: list[str] = []
    for file in (path, *included):
        for literal, value in _DEFINE.findall(_without_comments(_text(file))):
            name, path_text = unquoted(literal), _value(value, file)
            if path_text is None and name in PLACES:
                path_text = _joined(value, file.parent, path.parent, constants)
                computed += [name] if path_text is None else []
            if path_text is not None:
                constants.setdefault(name, path_text)
            if name in PLACES and "getenv" in value:
                computed.append(name)
    for needed in ("DB_NAME", "DB_USER", "DB_PASSWORD", "DB_HOST"):
        if needed not in constants:
            raise SiteError(f"{path} does not say {needed} in a way that can be read without running it.",
                            next_step="Write it as plain text there, or write a site file (docs/guide.md).")
    prefix = _PREFIX.search(_without_comments(text))
    host, port, socket = _host(constants["DB_HOST"])
    url = DatabaseUrl(engine, constants["DB_USER"], constants["DB_PASSWORD"], host, port, constants["DB_NAME"],
                        {"unix_socket": socket} if socket else {})
    found_prefix = _value(prefix.group(1), path) if prefix else "wp_"
    return PhpConfiguration(path, constants, locate(url.render_as_string(hide_password=False), path.parent,
                                                    found_prefix or "wp_"), included, tuple(dict.fromkeys(computed)))


# Constants that say where a site's parts and addresses are.
PLACES = frozenset({"WP_CONTENT_DIR", "WP_CONTENT_URL", "WP_PLUGIN_DIR", "WP_PLUGIN_URL", "WPMU_PLUGIN_DIR",
                    "WPMU_PLUGIN_URL", "UPLOADS", "WP_HOME", "WP_SITEURL"})
_FOLDERS = (("WP_PLUGIN_DIR", "wp-content/plugins"), ("WPMU_PLUGIN_DIR", "wp-content/mu-plugins"),
            ("WP_CONTENT_DIR", "wp-content"))
_INCLUDE = expression(rf"\b(?:require|include)(?:_once)?\s*\(?\s*((?:__DIR__|dirname\s*\(\s*__FILE__\s*\)|ABSPATH)"
                      rf"\s*\.\s*)?({STRING})\s*\)?\s*;")
_TERM = expression(rf"\s*(?:({STRING})|(__DIR__|dirname\s*\(\s*__FILE__\s*\))|([A-Z_]+)|(\$_SERVER\s*\[\s*"
                   r"['\"]HTTP_HOST['\"]\s*\]))\s*(\.|$)")
HOST = "{host}"  # in a value, whatever host the site is asked under


def _included(path: AnyPath, text: str) -> tuple[AnyPath, ...]:
    """The files beside a configuration that it takes in, but for the system's own."""
    files = []
    for _, literal in _INCLUDE.findall(_without_comments(text)):
        file = path.parent / unquoted(literal).lstrip("/")
        if file.name != "wp-settings.php" and file.is_file() and below(
                file.resolve(), path.parent.resolve()) is not None:
            files.append(file)
    return tuple(dict.fromkeys(files))


def _joined(expression: str, here: AnyPath, root: AnyPath, constants: Mapping[str, str]) -> str | None:
    """What pieces joined together say: texts, the file's own folder, constants. None: it would have to be run."""
    parts, at = [], 0
    while at < len(expression):
        term = _TERM.match(expression, at)
        if term is None:
            return None
        text, constant, name, host, _ = term.groups()
        if name and name != "ABSPATH" and name not in constants:
            return None
        parts.append(unquoted(text) if text else on_machine(here) if constant else HOST if host
                     else f"{on_machine(root)}/" if name == "ABSPATH" else constants[name])
        at = term.end()
    return "".join(parts)


def moved_folders(configuration: PhpConfiguration, tree: AnyPath) -> dict[str, str]:
    """The folders that a configuration puts elsewhere in the site's tree, by the ones that they usually are. Raises
    SiteError for one that is not in the tree."""
    folders: dict[str, str] = {}
    for name, usual in _FOLDERS:
        if name in configuration.constants:
            place = on_host(host_of(tree), configuration.constants[name])
            inside = below(place.resolve(), tree.resolve()) if place.is_absolute() else None
            folders[usual] = f"!{place}" if inside is None else inside.as_posix()
    if "UPLOADS" in configuration.constants:
        folders["wp-content/uploads"] = configuration.constants["UPLOADS"].strip("/")
    return {usual: now for usual, now in folders.items() if usual != now}


def settings(profile: Profile, configuration: PhpConfiguration) -> tuple[str, str]:
    """The site's name and base URL: from constants where they are set, else from its settings."""
    table = profile.settings
    assert table is not None and profile.configuration is not None
    database = configuration.database.open(readonly=True)
    try:
        with explaining(database):
            tables = database.tables()
        if table.table not in tables:
            raise SiteError(f"The database {configuration.database.shown} has no table "
                            f"{configuration.database.prefix}{table.table}.",
                            next_step="Check the table prefix in the configuration, or finish the site's installation.")
        names = (profile.configuration.name, profile.configuration.url)
        values = dict.fromkeys(names, "")
        values |= {str(row[table.name]): str(row[table.value])
                  for row in database.find_any(tables[table.table], table.name, names, {})}
    finally:
        database.close()
    url = configuration.constants.get("WP_HOME") or values[profile.configuration.url]
    if HOST in url:
        url = values[profile.configuration.url]
    name = re.sub(r"[^a-z0-9]+", "-", values[profile.configuration.name].lower()).strip("-")
    return name or configuration.path.parent.name, url


def _text(path: AnyPath) -> str:
    return read_bounded(path).decode("utf-8", "surrogateescape")


def _without_comments(text: str) -> str:
    return COMMENT.sub(lambda m: m.group(1) or " ", text)


def unquoted(literal: str) -> str:
    """The value of a PHP string literal."""
    body = literal[1:-1]
    if literal[0] == "'":
        return re.sub(r"\\(['\\])", r"\1", body)
    return re.sub(r"\\([\"\\$nrt])", lambda m: {"n": "\n", "r": "\r", "t": "\t"}.get(m.group(1), m.group(1)), body)


def _value(expression: str, file: AnyPath) -> str | None:
    """What an expression says: a string, or a look-up in the environment of the file's machine. None: it would have to
    be run."""
    expression = expression.strip()
    if re.fullmatch(STRING, expression):
        return None if expression[0] == '"' and re.search(r"(?<!\\)\$[\w{]", expression) else unquoted(expression)
    match = _ENVIRONMENT.fullmatch(expression)
    if match is None:
        return None
    value = variable(file, unquoted(match.group(1) or match.group(2)))
    return value or (unquoted(match.group(3)) if match.group(3) else value)


def _host(text: str) -> tuple[str | None, int | None, str | None]:
    """Host, port and socket of `host`, `host:port`, `host:/socket`, `host:port:/socket`, `[::1]:port`."""
    match = re.fullmatch(r"(\[[0-9a-fA-F:]*\]|[^:]*)(?::(\d+))?(?::(/.*))?", text)
    if match is None:
        raise SiteError("The database's host cannot be read from the configuration.",
                        next_step="Write it as host, host:port or host:/socket.")
    host, port, socket = match.groups()
    return host.strip("[]") or None, int(port) if port else None, socket


def texts(content: bytes) -> set[str]:
    """The names of the constants that a file defines as texts."""
    defines = _DEFINE.findall(_without_comments(content.decode("utf-8", "surrogateescape")))
    return {unquoted(name) for name, value in defines if re.fullmatch(STRING, value.strip()) and len(value) > 2}


def rewritten(content: bytes, constants: Mapping[str, str], prefix: str | None,
              written: Callable[[str], str] = str) -> bytes:
    """The file with other values for constants that it defines, and another prefix; every other line, comments too,
    stays as it is, but for texts, which are as `written` gives them."""
    text = content.decode("utf-8", "surrogateescape")
    spans = [m.span() for m in COMMENT.finditer(text) if m.group(1) is None]

    def live(at: int) -> bool:
        return not any(start <= at < end for start, end in spans)

    changes: list[Change] = []
    for match in _DEFINE.finditer(text):
        name = unquoted(match.group(1))
        if live(match.start()) and name in constants:
            changes.append((*match.span(2), quoted(constants[name])))
    for match in _PREFIX.finditer(text):
        if prefix is not None and live(match.start()):
            changes.append((*match.span(1), quoted(prefix)))
    return changed(text, changes, written, live).encode("utf-8", "surrogateescape")


def changed(text: str, changes: Sequence[Change], written: Callable[[str], str],
            live: Callable[[int], bool] = lambda at: True) -> str:
    """PHP with these changes, and with every other text in it as `written` gives it. live: whether what begins at a
    place is looked at."""
    texts: list[Change] = []
    for match in re.finditer(STRING, text):
        body = match.group()[1:-1]
        if live(match.start()) and not any(start < match.end() and match.start() < end for start, end, _ in changes):
            new = written(body)  # what it finds has no letters that a text would escape
            if new != body:
                texts.append((*match.span(), match.group()[0] + new + match.group()[0]))
    for start, end, new in sorted((*changes, *texts), reverse=True):
        text = text[:start] + new + text[end:]
    return text


def quoted(value: str) -> str:
    return "'" + value.replace("\\", "\\\\").replace("'", "\\'") + "'"
