"""Visiting pages as a visitor does: politely, never leaving the site, never more than is bearable."""

from __future__ import annotations

import threading
import time
from collections.abc import Mapping
from dataclasses import replace
from types import MappingProxyType
from urllib.parse import parse_qsl, urlsplit

import requests

from nostos.around.trial.page import Page, inside, read
from nostos.core.expressions import expression
from nostos.core.records import dataclass

_TIMEOUT_SECONDS = 20
_LARGEST = 5 << 20
_REDIRECTS = 8
_LOC = expression(r"<loc>\s*([^<\s]+)\s*</loc>")
_QUERIES = {"p", "page_id", "cat", "tag", "paged", "page", "m", "author", "attachment_id"}  # that only show something
_ACTS = expression(r"(^|/)(wp-admin|wp-login|logout|log-out|signout|sign-out|xmlrpc|wp-json|feed|cart|checkout)"
                   r"(/|\.|$)")
_FILE = expression(r"\.(?!html?$|php$)[A-Za-z0-9]{2,5}$")


@dataclass(frozen=True)
class Access:
    """How a protected site is entered. Neither is ever shown. login: name and password. cookie: a header's value."""

    login: tuple[str, str] | None = None
    cookie: str = ""
    any_certificate: bool = False


class Pace:
    """So many requests a second, and no more."""

    def __init__(self, rate: float) -> None:
        self._gap = 1 / rate
        self._next = 0.0
        self._lock = threading.Lock()

    def wait(self) -> None:
        with self._lock:
            now = time.monotonic()
            pause = max(0.0, self._next - now)
            self._next = max(now, self._next) + self._gap
        time.sleep(pause)


class Visitor:
    """Visits one site. pace: requests a second at most. also: other URLs that mean the site in its text. timeout:
    seconds that one answer may take. at: where the site answers in truth, if its own address leads elsewhere: a host
    and a port; it is told which address is meant. further: the site's further addresses, by those that live has there;
    what is visited there is named by these, with its path behind them."""

    def __init__(self, base: str, pace: Pace, entry: Access | None = None, also: tuple[str, ...] = (),
                 timeout: float = _TIMEOUT_SECONDS, at: str = "", further: Mapping[str, str] = MappingProxyType({})
                 ) -> None:
        self.base = base
        self._further = {name: Visitor(origin, pace, entry, (name,), timeout, at) for name, origin in further.items()}
        self._timeout = timeout
        self._elsewhere = bool(at)
        self._to = f"http://{at}{urlsplit(base).path}" if at else base
        self._also = also
        self._pace = pace
        self._session = requests.Session()
        self._session.headers["User-Agent"] = "Nostos trial"
        if urlsplit(base).hostname in ("127.0.0.1", "localhost", "::1"):
            self._session.trust_env = False
        if at:
            self._session.trust_env = False
            self._session.headers.update({"Host": urlsplit(base).netloc, "X-Forwarded-Proto": urlsplit(base).scheme})
        if entry is not None:
            self._session.auth = entry.login
            self._session.verify = not entry.any_certificate
            if entry.cookie:
                self._session.headers["Cookie"] = entry.cookie
        self._answers: dict[str, int] = {}

    def close(self) -> None:
        self._session.close()
        for visitor in self._further.values():
            visitor.close()

    def everywhere(self) -> list[Visitor]:
        """Who visits the site, and each of its further addresses."""
        return [self, *self._further.values()]

    def fetch(self, path: str, most: int) -> tuple[int, dict[str, str], bytes]:
        """What the site's machine answers for a path, with headers, up to so many bytes. Raises
        requests.RequestException."""
        self._pace.wait()
        top = urlsplit(self._to)._replace(path="", query="", fragment="").geturl()
        with self._session.get(top + path, timeout=self._timeout, allow_redirects=False, stream=True) as answer:
            return answer.status_code, dict(answer.headers), answer.raw.read(most, decode_content=True) or b""

    def url(self, path: str) -> str:
        """Where a page is."""
        name, visitor = self._whose(path)
        return visitor.url(path[len(name):]) if name else self.base + path

    def starts(self) -> list[str]:
        """Where the site begins, at each of its addresses."""
        return ["/", *(f"{name}/" for name in self._further)]

    def _whose(self, path: str) -> tuple[str, Visitor]:
        """Which further address a path is of, and who visits it there; empty, and this one: of none."""
        return next(((n, v) for n, v in self._further.items() if path.startswith(f"{n}/")), ("", self))

    def page(self, path: str) -> Page:
        """Visit a page, following it where it leads inside the site."""
        name, visitor = self._whose(path)
        if name:
            return _named(name, visitor.page(path[len(name):]))
        here, began = path, time.monotonic()
        for _ in range(_REDIRECTS):
            try:
                self._pace.wait()
                began = time.monotonic()
                with self._session.get(self._to + here, timeout=self._timeout, allow_redirects=False,
                                       stream=True) as answer:
                    seconds = time.monotonic() - began
                    target = answer.headers.get("Location")
                    if answer.is_redirect and target:
                        onward = inside(self.base, target, here)
                        if onward is None:
                            return Page(path, answer.status_code, "", target, seconds=seconds)
                        here = onward
                        continue
                    return self._read(path, here, answer, seconds)
            except requests.RequestException as error:
                return Page(path, 0, _why(error, self._timeout))
        return Page(path, 0, "is led in a circle")

    def _read(self, path: str, here: str, answer: requests.Response, seconds: float) -> Page:
        body = answer.raw.read(_LARGEST, decode_content=True) or b""
        kind = answer.headers.get("Content-Type", "")
        page = Page(path, answer.status_code)
        if "html" in kind:
            text = body.decode(answer.encoding or "utf-8", "replace")
            page = replace(read(here, answer.status_code, text, self.base, self._also), path=path)
        return replace(page, moved=here if here != path else "", seconds=seconds, size=len(body))

    def quickest(self, page: Page, times: int) -> Page:
        """The page with the shortest of several times, for one visit may be slow by chance."""
        return replace(page, seconds=min([page.seconds, *(self.page(page.path).seconds for _ in range(times))]))

    def answers(self, path: str) -> int:
        """The status with which something is answered; 0: not at all. Asked once."""
        name, visitor = self._whose(path)
        if name:
            return visitor.answers(path[len(name):])
        if path not in self._answers:
            try:
                self._pace.wait()
                with self._session.get(self._to + path, timeout=self._timeout, allow_redirects=not self._elsewhere,
                                       stream=True) as answer:
                    self._answers[path] = answer.status_code
            except requests.RequestException:
                self._answers[path] = 0
        return self._answers[path]

    def knows(self, page: Page) -> None:
        """Remember a page's status, so that links to it need not be asked for."""
        name, visitor = self._whose(page.path)
        visitor._answers[page.path[len(name):]] = page.status

    def sitemap(self, most: int) -> list[str]:
        """Paths that the site's own sitemap names."""
        paths: dict[str, None] = {}
        maps = [m for line in self._text("/robots.txt").splitlines() if line.lower().startswith("sitemap:")
                for m in [inside(self.base, line.partition(":")[2])] if m]
        queue, seen = [*maps, "/sitemap.xml"], set[str]()
        while queue and len(seen) < 20 and len(paths) < most:
            place = queue.pop(0)
            if place in seen:
                continue
            seen.add(place)
            for url in _LOC.findall(self._text(place)):
                path = inside(self.base, url.replace("&amp;", "&"))
                if path is not None and path.endswith(".xml"):
                    queue.append(path)
                elif path is not None:
                    paths[path] = None
        for name, visitor in self._further.items():
            paths.update(dict.fromkeys(name + path for path in visitor.sitemap(most)))
        return list(paths)[:most]

    def _text(self, path: str) -> str:
        try:
            self._pace.wait()
            with self._session.get(self._to + path, timeout=self._timeout, allow_redirects=not self._elsewhere,
                                   stream=True) as answer:
                if answer.status_code != 200:
                    return ""
                return (answer.raw.read(_LARGEST, decode_content=True) or b"").decode("utf-8", "replace")
        except requests.RequestException:
            return ""


def _named(name: str, page: Page) -> Page:
    """A page of a further address, by that."""
    def full(path: str) -> str:
        return name + path if path.startswith("/") else path

    return replace(page, path=full(page.path), moved=full(page.moved), assets=tuple(map(full, page.assets)),
                   links=tuple(map(full, page.links)))


def may_follow(path: str) -> bool:
    """Whether a link may be followed: it shows something, and does nothing."""
    place, _, query = path.partition("?")
    if _ACTS.search(place) or _FILE.search(place):
        return False
    return all(name in _QUERIES for name, _ in parse_qsl(query, keep_blank_values=True))


def _why(error: requests.RequestException, timeout: float) -> str:
    if isinstance(error, requests.Timeout):
        return f"does not answer within {timeout:.0f} s"
    if isinstance(error, requests.exceptions.SSLError):
        return "has a certificate that is not trusted"
    return "cannot be reached"
