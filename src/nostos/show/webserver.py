"""What only the administrator can do after a clone: the name, the web server, the certificate."""

from __future__ import annotations

import re
from collections.abc import Sequence
from typing import TYPE_CHECKING
from urllib.parse import urlsplit

from nostos.core.hosts.far_path import host_of, on_machine, written

if TYPE_CHECKING:
    from nostos.core.voyages.home import Voyage

# What nobody is to fetch, in any system: hidden files, settings, databases, programs that are not run, what is noted of
# them. Each as a regular expression of addresses.
_HIDDEN = r"(^|/)\.(?!well-known(/|$))"
_KINDS = (r"\.(toml|ya?ml|ini|env|lock|log|sql|sqlite3?|db|mdb|bak|old|orig|swp|py|pyc|rb|sh|pl|jsonl)"
          r"(-wal|-shm|-journal)?$")

_APACHE = """\
<VirtualHost *:80>
    ServerName {host}{aliases}
{body}
</VirtualHost>"""

_APACHE_FILES = """\
    DocumentRoot "{root}"
    <Directory "{root}">
        Require all granted
        AllowOverride All
    </Directory>
    <LocationMatch "(?i){private}">
        Require all denied
    </LocationMatch>"""

_APACHE_PROXY = """\
    # The system answers by itself: start it on this port of this machine alone.
    # Its folder is not served: its settings and its database are in there.
    ProxyPreserveHost On
    ProxyPass / http://127.0.0.1:8000/
    ProxyPassReverse / http://127.0.0.1:8000/"""

_NGINX = """\
server {{
    listen 80;
    server_name {hosts};
{body}
}}"""

_NGINX_FILES = """\
    root "{root}";
    location ~* "{private}" {{ deny all; }}{php}"""

_NGINX_PHP = """
    index index.php;
    location / { try_files $uri $uri/ /index.php?$args; }
    location ~ \\.php$ { include fastcgi.conf; fastcgi_pass unix:/run/php/php-fpm.sock; }"""

_NGINX_PROXY = """\
    # The system answers by itself: start it on this port of this machine alone.
    # Its folder is not served: its settings and its database are in there.
    location / {{
        proxy_pass http://127.0.0.1:8000;
        proxy_set_header Host $host;
        proxy_set_header X-Forwarded-Proto $scheme;
    }}"""


def left_to_do(voyage: Voyage, program: str, inside: str = "", private: Sequence[str] = (),
               further: Sequence[str] = ()) -> list[str]:
    """Paragraphs for the administrator; none where the copy answers on this very machine's own address.

    program: what answers for the system: "php", "python" for a project that answers by itself, else empty. inside:
    where its tree is, in its folder. private: paths in the tree that are the site's own: settings, the database.
    further: the copy's further addresses."""
    host = urlsplit(voyage.url).hostname or ""
    if host in ("127.0.0.1", "localhost", "::1") or any(c in voyage.into for c in '"\n\\${}'):
        return []
    more = [name for url in further if (name := urlsplit(url).hostname or "") != host]
    patterns = [re.escape("/" + path).replace('"', ".") + "$" for path in private]
    facts = {"root": "/".join(filter(None, (on_machine(written(voyage.into)), inside))),
             "private": "|".join([_HIDDEN, _KINDS, *patterns])}
    by_itself = program == "python"
    apache = _APACHE.format(host=host, aliases="".join(f"\n    ServerAlias {name}" for name in more),
                            body=(_APACHE_PROXY if by_itself else _APACHE_FILES).format(**facts))
    nginx = _NGINX.format(hosts=" ".join([host, *more]), body=(_NGINX_PROXY if by_itself else _NGINX_FILES).format(
        **facts, php=_NGINX_PHP if program == "php" else ""))
    machine = host_of(written(voyage.into)) or "this machine"
    names = f"names {', '.join([host, *more])}" if more else f"name {host}"
    return [f"Left to you: let the {names} lead to {machine}, tell the web server, get a certificate. "
            "To start:",
            "for Apache" + (" (with its modules proxy and proxy_http)" if by_itself else ""), _indented(apache),
            "for nginx", _indented(nginx)]


def _indented(text: str) -> str:
    return "\n".join("    " + line for line in text.splitlines())
