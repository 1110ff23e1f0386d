"""Photographing pages with Chromium, as a visitor sees them.

The browser reaches the site through this program alone: it may only look, what it fetched once is not asked for again,
and a copy that asks for a password, or that answers elsewhere than it says, is entered as a visit enters it. What pages
take from other places comes from there.
"""

from __future__ import annotations

import os
import shutil
import subprocess
import tempfile
import threading
from collections.abc import Iterator
from contextlib import contextmanager
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from pathlib import Path
from urllib.parse import urlsplit

import requests

from nostos.around.trial.visit import Visitor
from nostos.core.errors import SiteError
from nostos.core.expressions import expression
from nostos.core.records import dataclass

_NAMES = ("chromium", "chromium-browser", "google-chrome")
_TIMEOUT_SECONDS = 60
_BUDGET = 4000  # milliseconds of a page's own time, until it is photographed
_KEPT_BYTES = 64 << 20  # of what was fetched once: styles, scripts, pictures
_LARGEST = 16 << 20
_TEXTS = expression(r"(?i)^(?:text/|application/(?:json|javascript|xhtml))")


def browser() -> str:
    """The program. Raises SiteError where there is none."""
    browser = next((b for b in map(shutil.which, _NAMES) if b), None)
    if browser is None:
        raise SiteError("No Chromium is installed, so no pictures can be taken.",
                        next_step="Install it (on Debian: apt-get install chromium), or leave --pictures out.")
    return browser


@dataclass(frozen=True)
class Camera:
    """Takes pictures of one site. port: of this machine's, where it answers for the site. size: of the window, in
    pixels."""

    program: str
    port: int
    hosts: tuple[str, ...]
    size: tuple[int, int] = (1280, 1600)

    def photograph(self, url: str, to: Path) -> bool:
        """Write a picture of a page as PNG. Says whether there is one."""
        parts = urlsplit(url)
        plain = parts._replace(scheme="http").geturl()  # see `_Handler`: it speaks to the site as the site wants
        rules = ",".join(f"MAP {host} 127.0.0.1:{self.port}" for host in self.hosts)
        # Where the machine forbids the browser's sandbox, it ends at once; as root it refuses to have one.
        for flags in (["--no-sandbox"],) if os.geteuid() == 0 else ([], ["--no-sandbox"]):
            with tempfile.TemporaryDirectory() as profile:
                try:
                    done = subprocess.run(  # noqa: S603 - the URL is an argument of its own, below the site's own base
                        [self.program, "--headless", *flags, "--disable-gpu", "--no-first-run", "--hide-scrollbars",
                         "--disable-background-networking", "--disable-component-update", "--disable-sync",
                         "--no-proxy-server", "--disable-features=HttpsUpgrades,HttpsFirstBalancedModeAutoEnable",
                         # Pictures are painted before it is taken, and what moves by itself stands alike on both sides.
                         "--run-all-compositor-stages-before-draw", f"--virtual-time-budget={_BUDGET}",
                         f"--host-resolver-rules={rules}", f"--user-data-dir={profile}",
                         f"--window-size={self.size[0]},{self.size[1]}", f"--screenshot={to.absolute()}", plain],
                        capture_output=True, timeout=_TIMEOUT_SECONDS, check=False)
                except subprocess.TimeoutExpired:
                    return False
            if to.is_file() or done.returncode == 0:
                break
        return to.is_file()


@contextmanager
def camera(visitor: Visitor) -> Iterator[Camera]:
    """A camera for the site that somebody visits. Raises SiteError where no Chromium is installed."""
    program = browser()
    by_host = {urlsplit(v.base).netloc: v for v in visitor.everywhere()}

    class Handler(_Handler):
        sites = by_host
        kept = dict[str, tuple[int, dict[str, str], bytes]]()  # noqa: RUF012 - as long as this camera is

    server = ThreadingHTTPServer(("127.0.0.1", 0), Handler)
    server.daemon_threads = True
    thread = threading.Thread(target=server.serve_forever, daemon=True)
    thread.start()
    try:
        yield Camera(program, server.server_address[1], tuple(by_host))
    finally:
        server.shutdown()
        server.server_close()


class _Handler(BaseHTTPRequestHandler):
    """Answers the browser with what the site answers. What is said of `https` is said of `http` here."""

    sites: dict[str, Visitor]
    kept: dict[str, tuple[int, dict[str, str], bytes]]
    protocol_version = "HTTP/1.1"

    def do_GET(self) -> None:
        host = self.headers.get("Host", "")
        visitor = self.sites.get(host)
        if visitor is None or not self.path.startswith("/"):
            self._answer(404, {}, b"")
            return
        known = self.kept.get(host + self.path)
        self._answer(*(known or self._fetched(visitor, host)))

    def _fetched(self, visitor: Visitor, host: str) -> tuple[int, dict[str, str], bytes]:
        try:
            status, headers, body = visitor.fetch(self.path, _LARGEST)
        except requests.RequestException:
            return 502, {}, b""
        kind = headers.get("Content-Type", "")
        if _TEXTS.match(kind):
            for site in self.sites:
                body = body.replace(f"https://{site}".encode(), f"http://{site}".encode())
        kept = {n: v for n, v in headers.items() if n.lower() in ("content-type", "location", "set-cookie")}
        if "Location" in kept and urlsplit(kept["Location"]).netloc in self.sites:
            kept["Location"] = kept["Location"].replace("https://", "http://", 1)
        answer = status, kept, body
        if status == 200 and "html" not in kind and sum(len(b) for *_, b in self.kept.values()) < _KEPT_BYTES:
            self.kept[host + self.path] = answer
        return answer

    def _answer(self, status: int, headers: dict[str, str], body: bytes) -> None:
        self.send_response(status)
        for name, value in headers.items():
            self.send_header(name, value)
        self.send_header("Content-Length", str(len(body)))
        self.end_headers()
        self.wfile.write(body)

    def log_message(self, format: str, *args: object) -> None:
        """Nothing of what is visited is printed."""
