"""What only the administrator can do after a clone: the name, the web server, the certificate."""

from __future__ import annotations

from collections.abc import Sequence
from urllib.parse import urlsplit

from nostos.core.hosts.far_path import host_of, on_machine, written
from nostos.core.voyages.home import Voyage

_APACHE = """\
<VirtualHost *:80>
    ServerName {host}{aliases}
    DocumentRoot "{root}"
    <Directory "{root}">
        Require all granted
        AllowOverride All
    </Directory>
</VirtualHost>"""

_NGINX = """\
server {{
    listen 80;
    server_name {hosts};
    root "{root}";{php}
}}"""

_NGINX_PHP = """
    index index.php;
    location / {{ try_files $uri $uri/ /index.php?$args; }}
    location ~ \\.php$ {{ include fastcgi.conf; fastcgi_pass unix:/run/php/php-fpm.sock; }}"""


def left_to_do(voyage: Voyage, php: bool, further: Sequence[str] = ()) -> list[str]:
    """Paragraphs for the administrator; none where the copy answers on this very machine's own address. further: the
    copy's further addresses."""
    host = urlsplit(voyage.url).hostname or ""
    if host in ("127.0.0.1", "localhost", "::1") or any(c in voyage.into for c in '"\n\\${}'):
        return []
    more = [name for url in further if (name := urlsplit(url).hostname or "") != host]
    facts = {"host": host, "root": on_machine(written(voyage.into)), "hosts": " ".join([host, *more]),
             "aliases": "".join(f"\n    ServerAlias {name}" for name in more)}
    nginx = _NGINX.format(**facts, php=_NGINX_PHP.format() if php else "")
    machine = host_of(written(voyage.into)) or "this machine"
    names = f"names {', '.join([host, *more])}" if more else f"name {host}"
    return [f"Left to you: let the {names} lead to {machine}, tell the web server, get a certificate. "
            "To start:",
            "for Apache", _indented(_APACHE.format(**facts)), "for nginx", _indented(nginx)]


def _indented(text: str) -> str:
    return "\n".join("    " + line for line in text.splitlines())
