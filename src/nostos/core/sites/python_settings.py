"""A project whose settings are a Python program: where its database is, read without running it, and a copy's own.

A copy keeps the project's settings as they are, so that changes to them still go home. It gets a module of its own,
which takes them in and says what is the copy's: its database, its address, no mail. The programs that name the settings
(`manage.py`, `wsgi.py`, `asgi.py`) name that module there.
"""

from __future__ import annotations

import ast
import posixpath
import re
from collections.abc import Iterator, Mapping
from pathlib import PurePosixPath
from typing import Any
from urllib.parse import urlsplit

from nostos.core.database.registry import Location, locate
from nostos.core.database.url import DatabaseUrl
from nostos.core.errors import SiteError
from nostos.core.hosts.far_path import AnyPath, on_machine
from nostos.core.records import dataclass
from nostos.core.sites import env_file
from nostos.core.sites.settings_reader import SaidUrl, SettingsReader, Unknown, tree_of
from nostos.core.sites.site_file import read_bounded

OWN = "nostos_copy"  # the copy's own module
FILE = f"{OWN}.py"
_MODULE = "DJANGO_SETTINGS_MODULE"
_PROGRAMS = ("wsgi.py", "asgi.py")
_ENGINES = {"sqlite3": "sqlite", "postgresql": "postgresql", "postgis": "postgresql", "mysql": "mysql"}
_SOCKETS = "/var/run/postgresql"  # where a client looks for the server if it is told nothing
_OPTIONS = ("sslmode", "sslrootcert", "sslcert", "sslkey", "connect_timeout")
_NO_ADDRESS = ("example.com", "www.example.com")  # what a new project says before anybody has said anything


@dataclass(frozen=True)
class SettingsFacts:
    """What a project's settings come to. url: None where they do not say the site's address. own: the files that name
    the settings, relative to the project. uncopyable: why a copy would act on the original."""

    name: str
    url: str | None
    database: Location
    own: tuple[str, ...]
    uncopyable: str = ""


def read(folder: AnyPath) -> SettingsFacts | None:
    """What the settings of the project in a folder come to; None where it is no project. Raises NotTold."""
    if not (folder / env_file.PROGRAM).is_file():
        return None
    programs = dict(_programs(folder))
    module = _answering(programs)
    if not module:
        return None
    environment = env_file.values_in(read_bounded(folder / env_file.NAME)) if (folder / env_file.NAME).is_file() else {}
    reader = SettingsReader(folder, environment)
    names = reader.names(module)
    if names is None:
        raise _refused(f"its settings, {module}, cannot be read")
    databases = names.get("DATABASES", Unknown("DATABASES"))
    if not isinstance(databases, dict) or not isinstance(databases.get("default"), dict):
        raise _refused(f"DATABASES in {reader.read[-1]} is worked out when it runs")
    files = (*programs, FILE) if module == OWN else tuple(programs)
    return SettingsFacts(folder.name, _address(names), _location(databases["default"], folder), files,
                         _uncopyable(names, databases, folder))


class NotTold(SiteError):
    """What has to be known of a project cannot be told without running its settings."""


def _refused(why: str) -> NotTold:
    return NotTold(f"This is a project of the Python web framework whose database cannot be told without running its "
                     f"settings, which is never done: {why}.",
                     next_step="Write a nostos.toml there ([site] with name, url and database; docs/wagtail.md shows "
                               "one).")


def _programs(folder: AnyPath) -> Iterator[tuple[str, str]]:
    """The files that name the settings, and the module that each names."""
    first = _named(folder, env_file.PROGRAM)
    if first is None:
        return
    yield env_file.PROGRAM, first
    package = _package(folder, first)
    for name in (*_PROGRAMS, *(f"{package}/{p}" for p in _PROGRAMS if package)):
        module = _named(folder, name)
        if module is not None:
            yield name, module


def _package(folder: AnyPath, module: str) -> str:
    """The folder of the project's own package; in a copy, that of the settings that it takes in."""
    if module == OWN:
        module = _taken_in(read_bounded(folder / FILE)) if (folder / FILE).is_file() else ""
    return module.partition(".")[0] if "." in module else ""


def _answering(programs: Mapping[str, str]) -> str:
    """The settings that a project answers with; empty where none are named. programs: modules by who names them."""
    return next((m for f, m in programs.items() if f.endswith("wsgi.py")), programs.get(env_file.PROGRAM, ""))


def _taken_in(content: bytes) -> str:
    """The settings that a copy's own module takes in."""
    tree = tree_of(content)
    return next((s.module or "" for s in (tree.body if tree else ()) if isinstance(s, ast.ImportFrom)), "")


def _named(folder: AnyPath, name: str) -> str | None:
    """The settings that a program names."""
    if not (folder / name).is_file():
        return None
    return next((module for *_, module in _spots(read_bounded(folder / name))), None)


def _spots(content: bytes) -> Iterator[tuple[ast.AST, str]]:
    """Where a program names its settings, and which."""
    tree = tree_of(content)
    for node in ast.walk(tree) if tree is not None else ():
        match node:
            case ast.Call(func=ast.Attribute(attr="setdefault"),
                          args=[ast.Constant(value=name), ast.Constant(value=str(module))]) if name == _MODULE:
                yield node, module
            case ast.Call(func=ast.Attribute(attr="update"),
                          keywords=[ast.keyword(arg=name, value=ast.Constant(value=str(module)))]) if name == _MODULE:
                yield node, module
            case ast.Assign(targets=[ast.Subscript(slice=ast.Constant(value=name))],
                            value=ast.Constant(value=str(module))) if name == _MODULE:
                yield node, module


def _address(names: Mapping[str, Any]) -> str | None:
    for name in env_file.ADDRESSES:
        address = names.get(name)
        if isinstance(address, str) and urlsplit(address).hostname not in (None, *_NO_ADDRESS):
            return address
    return None


def _location(names: Mapping[str, Any], folder: AnyPath) -> Location:
    """Where a database is, as settings say it."""
    if isinstance(names.get("url"), SaidUrl):
        return locate(env_file.as_url(names["url"]), folder)
    kind = _ENGINES.get(str(names.get("ENGINE", "")).rpartition(".")[2])
    if kind is None:
        raise _refused("its database is of a kind that is not known" if "ENGINE" in names else "it names no ENGINE")
    for key in ("NAME", "USER", "PASSWORD", "HOST", "PORT"):
        if isinstance(names.get(key), Unknown):
            raise _refused(f"the database's {key} is worked out when it runs")
    name = str(names.get("NAME") or "")
    if not name:
        raise _refused("the database has no NAME")
    if kind == "sqlite":
        return locate(DatabaseUrl("sqlite", database=name).render_as_string(), folder)
    host, query = str(names.get("HOST") or ""), {}
    options = names.get("OPTIONS")
    options = options if isinstance(options, dict) else {}
    if kind == "postgresql":
        if host.startswith("/") or not host:
            query["host"] = host or _SOCKETS
        query |= {k: str(v) for k, v in options.items() if k in _OPTIONS and isinstance(v, str | int)}
        path = re.search(r"search_path=\s*([\w,]+)", str(options.get("options", "")))
        if path:
            query["schema"] = path.group(1)
    elif host.startswith("/") or isinstance(options.get("unix_socket"), str):
        query["unix_socket"] = host if host.startswith("/") else options["unix_socket"]
    port = str(names.get("PORT") or "")
    url = DatabaseUrl(kind, str(names.get("USER") or "") or None, str(names.get("PASSWORD") or "") or None,
                        None if host.startswith("/") else host or None, int(port) if port.isdigit() else None, name,
                        query)
    return locate(url.render_as_string(hide_password=False), folder)


def _uncopyable(names: Mapping[str, Any], databases: Mapping[str, Any], folder: AnyPath) -> str:
    """Why a copy with these settings would act on the original."""
    others = [n for n in databases if n != "default"]
    if others:
        return (f"The settings name several databases ({', '.join(map(str, databases))}), and a copy would write into "
                "the same ones")
    media = names.get("MEDIA_ROOT")
    if isinstance(media, Unknown):
        return (f"MEDIA_ROOT is worked out when the settings run ({media.reason}), so a copy may write into the "
                "original's")
    if media and _inside(str(media), folder) is None:
        return f"The settings put what is put up into {media}, outside the project's folder: a copy would write there"
    return ""


def _inside(place: str, folder: AnyPath) -> str | None:
    """A path as one in the project; None where it lies outside. A relative one starts at the project."""
    root = on_machine(folder)
    whole = posixpath.normpath(posixpath.join(root, place))
    return posixpath.relpath(whole, root) if PurePosixPath(whole).is_relative_to(root) else None


# --- a copy's own words


def named_anew(content: bytes) -> bytes:
    """A program that names its settings, naming the copy's."""
    lines = content.splitlines(keepends=True)
    starts = [0]
    for line in lines:
        starts.append(starts[-1] + len(line))
    for node, _ in sorted(_spots(content), key=lambda s: -s[0].lineno):  # type: ignore[attr-defined]
        begin = starts[node.lineno - 1] + node.col_offset  # type: ignore[attr-defined]
        end = starts[node.end_lineno - 1] + node.end_col_offset  # type: ignore[attr-defined]
        setting = (f'os.environ["{_MODULE}"] = "{OWN}"' if isinstance(node, ast.Assign) else
                   f'os.environ.update({_MODULE}="{OWN}")')
        content = content[:begin] + setting.encode() + content[end:]
    return content


def settings_taken(files: Mapping[str, bytes]) -> str:
    """The settings that the copy's module takes in. files: the original's own files, by their paths."""
    module = _answering({name: module for name, content in files.items() for *_, module in _spots(content)})
    return _taken_in(files[FILE]) if module == OWN and FILE in files else module  # a copy of a copy


GUARDED = "a mark on every page, no search engines, no mail, jobs, caches, cookies and folders of its own"


def own_module(module: str, was: str, folder: AnyPath, url: str, location: Location, mark: str) -> bytes:
    """The copy's own module. module: the settings that it takes in. was: the original's folder, as its machine writes
    it; empty where it is not known. folder: the copy's. mark: what its pages are to say; empty: nothing."""
    if not all(part.isidentifier() for part in module.split(".")):
        raise _refused(f"{module!r} is no module of settings")
    parts, own_url = urlsplit(url), location.url
    host, secure = parts.hostname or "", parts.scheme == "https"
    if location.file is not None:
        inside = _inside(on_machine(location.file), folder)
        place = repr(on_machine(location.file)) if inside is None else f"str(_HERE / {inside!r})"
        database = f'"ENGINE": "django.db.backends.sqlite3", "NAME": {place}'
    else:
        kind = "postgresql" if location.engine.schemes[0].startswith("postgres") else "mysql"
        words = {"NAME": own_url.database, "USER": own_url.username, "PASSWORD": own_url.password, "PORT": own_url.port,
                 "HOST": own_url.query.get("unix_socket") or own_url.query.get("host") or own_url.host}
        database = f'"ENGINE": "django.db.backends.{kind}", ' + ", ".join(
            f"{name!r}: {str(value or '')!r}" for name, value in words.items()) + f', "OPTIONS": {_options(location)!r}'
    return _TEMPLATE.format(
        module=module, behind="" if mark else _BEHIND, database=database, was=was, host=host, secure=secure, mark=mark,
        origin=f"{parts.scheme}://{parts.netloc}",
        addresses="\n".join(f"{name} = {url!r}" for name in env_file.ADDRESSES)).encode()


# What answers on this machine for the original's own address, which is reached by https.
_BEHIND = 'SECURE_PROXY_SSL_HEADER = ("HTTP_X_FORWARDED_PROTO", "https")\n'
_TEMPLATE = '''"""This copy's own settings, made by nostos. They never go home."""

from {module} import *
import pathlib

_WAS, _HERE = {was!r}, pathlib.Path(__file__).resolve().parent
# What lies in the original's folder lies here.
globals().update({{_name: type(_value)(str(_HERE) + str(_value)[len(_WAS):])
                  for _name, _value in list(globals().items())
                  if _WAS and _name.isupper() and isinstance(_value, (str, pathlib.Path))
                  and (str(_value) + "/").startswith(_WAS + "/")}})
DATABASES = {{"default": {{{database}}}}}
{addresses}
ALLOWED_HOSTS, CSRF_TRUSTED_ORIGINS = [{host!r}], [{origin!r}]
SECURE_SSL_REDIRECT = SESSION_COOKIE_SECURE = CSRF_COOKIE_SECURE = {secure}
{behind}SECURE_HSTS_SECONDS, SESSION_COOKIE_DOMAIN, CSRF_COOKIE_DOMAIN = 0, None, None
SESSION_COOKIE_NAME, CSRF_COOKIE_NAME = "copysession", "copytoken"
# No mail is sent, and no job of the original's is taken or given.
EMAIL_BACKEND = "django.core.mail.backends.dummy.EmailBackend"
CELERY_TASK_ALWAYS_EAGER = True
if globals().get("CACHES"):
    CACHES = {{_name: {{**_cache, "KEY_PREFIX": "copy of " + str(_cache.get("KEY_PREFIX", ""))}}
              for _name, _cache in CACHES.items()}}
MARK = {mark!r}
if MARK:
    MIDDLEWARE = ["nostos_copy.marked", *globals().get("MIDDLEWARE", [])]


def marked(get_response):
    """Every page says that it is a copy's, to people and to search engines."""
    import html

    shown = ('<div style="position:fixed;bottom:0;left:0;z-index:99999;padding:4px 10px;background:#8a1c1c;color:#fff;'
             'font:bold 13px sans-serif">' + html.escape(MARK) + '</div></body>').encode()

    def answer(request):
        response = get_response(request)
        response["X-Robots-Tag"] = "noindex, nofollow"
        kind = response.get("Content-Type", "")
        if kind.startswith("text/html") and not response.streaming and not response.get("Content-Encoding"):
            head, end, tail = response.content.rpartition(b"</body>")
            if end:
                response.content = head + shown + tail
                if response.has_header("Content-Length"):
                    response["Content-Length"] = str(len(response.content))
        return response

    return answer
'''


def _options(location: Location) -> dict[str, str]:
    options = {k: str(v) for k, v in location.url.query.items() if k in _OPTIONS}
    if location.url.query.get("schema"):
        options["options"] = f"-c search_path={location.url.query['schema']}"
    return options
