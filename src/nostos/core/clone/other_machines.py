"""Which other machines a site's settings name: mail relays, queues, search, object stores, payment. A copy that reads
them would speak to the very ones that live speaks to."""

from __future__ import annotations

import re
from collections.abc import Collection, Iterator
from ipaddress import ip_address

from nostos.core.expressions import expression
from nostos.core.records import dataclass

_SETTINGS = (".env", ".ini", ".cfg", ".conf", ".yml", ".yaml", ".toml", ".json", ".properties")
_PROGRAMS = (".php", ".py", ".rb", ".xml")  # of these, those that are called settings
_CALLED = expression(r"(?i)config|setting|environment|local|secret|credential")
_COMMENT = ("#", "//", ";", "*")
_LONGEST = 400  # letters of a line
_MOST = 20  # of a site
_SCHEMES = expression(r"(?i)\b(smtps?|rediss?|amqps?|mongodb(?:\+srv)?|ldaps?|nats|kafka|memcached|elasticsearch)://"
                      r"(?:[^@\s/\"']*@)?([\w.-]+)")
# A key that says a machine, and what follows it: a name with a dot, or an address.
_KEYS = expression(
    r"(?i)(?<![\w.-])([\w.-]{0,60}(?:smtp|mail|redis|queue|broker|search|elastic|solr|cache|ldap|s3|storage|payment|webhook|gateway)[\w.-]{0,60}"
    r"(?:host|server|url|uri|endpoint|address|dsn)[\w.-]{0,60})[\"']?\s*(?:=>|[:=,])\s*[\"']?"
    r"(?:\w[\w+.-]*://)?(?:[^@\s/\"']*@)?((?:[a-z0-9-]+\.)+[a-z]{2,}|\d+\.\d+\.\d+\.\d+)")


@dataclass(frozen=True)
class OtherMachine:
    """A machine that a settings file names. key: what it is called there. place: the file."""

    place: str
    key: str
    host: str

    @property
    def is_mail(self) -> bool:
        """Whether the place is called as one that mail goes through."""
        return bool(re.search(r"(?i)smtp|mail", self.key))


def machines_in(path: str, text: str, local_names: Collection[str]) -> Iterator[OtherMachine]:
    """The other machines that a settings file names. local_names: hosts that are the site's, and the copy's."""
    seen: set[str] = set()
    for line in text.splitlines() if says_settings(path) else ():
        if len(line) > _LONGEST or line.lstrip().startswith(_COMMENT):
            continue
        for key, host in (*_SCHEMES.findall(line), *_KEYS.findall(line)):
            if host not in local_names and not _is_here(host) and host not in seen and len(seen) < _MOST:
                seen.add(host)
                yield OtherMachine(path, key, host)


def says_settings(path: str) -> bool:
    """Whether a file is one of settings, by what it is called."""
    name = path.rpartition("/")[2]
    return name.endswith(_SETTINGS) or name.startswith(".env") or (
        name.endswith(_PROGRAMS) and _CALLED.search(path) is not None)


def _is_here(host: str) -> bool:
    try:
        return ip_address(host).is_loopback
    except ValueError:
        return host == "localhost" or host.endswith(".localhost")
