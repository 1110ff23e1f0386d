"""A site's own configuration files, made to speak of a copy of it: its URL, its database, its prefix."""

from __future__ import annotations

import re
from collections.abc import Mapping
from pathlib import Path

from nostos.core.database.registry import NONE, Location
from nostos.core.database.url import DatabaseUrl
from nostos.core.expressions import expression
from nostos.core.files.tree import Owner
from nostos.core.files.trees import tree_at
from nostos.core.hosts.far_path import AnyPath, below, on_machine
from nostos.core.profiles.loader import configurations
from nostos.core.profiles.parts import Configuration
from nostos.core.records import dataclass
from nostos.core.sites import env_file, php_arrays, php_configuration, python_settings
from nostos.core.sites import site_file as configuration
from nostos.core.values.urls import UrlForms


@dataclass(frozen=True)
class CopyFacts:
    """What a copy's configuration says. location: with its password. database: how a site file writes it, if not as
    its URL. files: the tree, relative to `folder`; None: there is none. prefixed: the prefix is another than before.
    profile: where the profile is, if the copy does not find it where the original does."""

    folder: AnyPath
    url: str
    location: Location
    files: str | None
    prefixed: bool
    database: str | None = None
    profile: str | None = None
    forms: tuple[UrlForms, UrlForms] | None = None  # how the original's address and folder are written, and the copy's
    mark: str = ""  # what a copy's pages are to say, where it is its configuration that makes them do so

    def in_own_words(self, text: str) -> str:
        """A text of the original's, as the copy has it."""
        return text if self.forms is None else self.forms[0].written_for(text, self.forms[1])


@dataclass(frozen=True)
class OriginalFile:
    """A configuration file of the site that a copy is made of: its content, rights, and whose the copy is to be (None:
    as the folder that it lies in)."""

    content: bytes
    mode: int = 0o600
    owner: Owner | None = None


def adapt(facts: CopyFacts, files: Mapping[str, OriginalFile], system: Configuration | None) -> None:
    """Write these files into the copy's folder, by their paths there, each once and in the copy's own words: what they
    say of the original is never there. system: the profile's word on its configuration."""
    file, location = facts.location.file, facts.location
    if location.none:
        path, url = "", NONE
    elif file is not None:
        path = str(below(file, facts.folder) or on_machine(file))
        url = f"{location.engine.schemes[0]}:///{path}"
    else:
        path, url = "", facts.database or location.url.render_as_string(hide_password=False)
    changes = {"site.url": facts.url, "site.database": url, "site.prefix": location.prefix,
               "site.files": NONE if facts.files is None else facts.files or "."}
    if facts.profile is not None:
        changes["site.profile"] = facts.profile
    tree = tree_at(facts.folder)
    file_settings = system
    arrays = next((n for n in files if php_arrays.is_one(n)), "")
    for name, original in files.items():
        # A system's own file is that, whichever profile the site has been given.
        system = next((c for c in configurations().values() if c.file == Path(name).name), file_settings)
        if name == python_settings.FILE:
            continue  # made below
        if name.endswith(".py"):
            made = python_settings.named_anew(original.content)
        elif Path(name).name == env_file.NAME:
            made = env_file.rewritten(original.content, facts.url, location, facts.folder, facts.in_own_words)
        elif name.endswith(".php") and arrays and Path(name).parent == Path(arrays).parent:
            # What is restored to be a site of its own acts as one; what a merge is rehearsed on looks like live.
            guards = php_arrays.guarded(bool(facts.mark)) if facts.forms is not None else ""
            made = php_arrays.rewritten(original.content, location, facts.url, guards if name == arrays else None,
                                        facts.in_own_words)
        elif name.endswith(".php") and file_settings is not None and file_settings.format == "php-constants":
            made = _php(facts, original.content)  # one that it takes in
        elif system is None or Path(name).name != system.file:
            made = configuration.rewritten_toml(original.content, changes, ("site.prefix",) if facts.prefixed else ())
        elif system.format == "php-constants":
            made = _php(facts, original.content)
        else:
            made = configuration.rewritten_toml(original.content, {system.url: facts.url, system.database: path})
        tree.make_above(name, lambda _: (0o755, None))
        tree.write(name, made, original.mode, original.owner)
    other = php_arrays.hosts(arrays, facts.url) if arrays else None
    if other is not None:
        tree.write(other[0], other[1].encode(), files[arrays].mode, files[arrays].owner)
    if env_file.PROGRAM in files:
        settings = python_settings.settings_taken({n: f.content for n, f in files.items()})
        was = facts.forms[0].folder.path if facts.forms is not None else ""
        made = python_settings.own_module(settings, was, facts.folder, facts.url, location, facts.mark)
        tree.write(python_settings.FILE, made, 0o640, files[env_file.PROGRAM].owner)


def _php(facts: CopyFacts, content: bytes) -> bytes:
    """A PHP configuration in the copy's own words: its database, its address, its folders, its cookies and cache."""
    location = facts.location
    constants = {"DB_NAME": str(location.url.database), "DB_USER": location.url.username or "",
            "DB_PASSWORD": location.url.password or "", "DB_HOST": _php_host(location.url)}
    if facts.forms is None:
        constants |= {"WP_HOME": facts.url, "WP_SITEURL": facts.url}
        return php_configuration.rewritten(content, constants, location.prefix)
    live, copy = facts.forms
    pieces = copy.pieces()
    # What keeps two sites apart where they share a server: each has its own.
    apart = {"COOKIE_DOMAIN": pieces["host"], "WP_CACHE_KEY_SALT": facts.url, "COOKIEPATH": pieces["path"] + "/",
             "SITECOOKIEPATH": pieces["path"] + "/"}
    constants |= {name: value for name, value in apart.items() if name in php_configuration.texts(content)}
    return php_configuration.rewritten(content, constants, location.prefix, lambda text: live.written_for(text, copy))


# Lines of a web server's rules in which paths below the site's address stand, and what is before these.
_RULE = expression(r"(?m)^([ \t]*(?:RewriteBase\s+|RewriteRule\s+\S+\s+|ErrorDocument\s+\d+\s+|"
                   r"Redirect(?:Permanent|Temp)?\s+(?:\d+\s+|permanent\s+|temp\s+|seeother\s+|gone\s+)?))(/.*)$")


def rules(text: str, live: UrlForms, copy: UrlForms) -> str:
    """A web server's rules in the copy's own words: its address, its folder, and the path that it is under."""
    text = live.written_for(text, copy)
    old, new = (forms.pieces()["path"] + "/" for forms in (live, copy))
    folder = copy.folder.path or old  # a target on the disk is no path below the address

    def moved(part: str) -> str:
        on_disk = folder != old and part.startswith(folder)
        return new + part[len(old):] if part.startswith(old) and not on_disk else part

    return text if old == new else _RULE.sub(lambda m: m.group(1) + "".join(
        map(moved, re.split(r"(\s+)", m.group(2)))), text)


def _php_host(url: DatabaseUrl) -> str:
    host = url.host or "localhost"
    host = f"[{host}]" if ":" in host else host
    socket = url.query.get("unix_socket")
    return f"{host}:{socket}" if socket else f"{host}:{url.port}" if url.port else host
