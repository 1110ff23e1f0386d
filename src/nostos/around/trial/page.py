"""What a visitor notices of one page, read out of its HTML."""

from __future__ import annotations

import re
from collections.abc import Iterable, Iterator
from urllib.parse import urldefrag, urljoin, urlsplit

from bs4 import BeautifulSoup, Tag

from nostos.core.expressions import expression
from nostos.core.records import dataclass

_MOST_LINES = 3000
_LONGEST_LINE = 400
_APART = ("script", "style", "noscript", "template", "svg", "nav", "header", "footer", "aside", "form")
_BLOCKS = ("p", "li", "dt", "dd", "td", "th", "h1", "h2", "h3", "h4", "h5", "h6", "blockquote", "pre", "figcaption",
           "div", "section", "article", "main", "table", "tr", "ul", "ol", "dl", "figure", "br", "address", "details")
_HEADS = ("h1", "h2", "h3")
_MARK = expression(r"nostos-|staging-mark")
# What programs print into a page when something is wrong with them.
_ERRORS = expression(
    r"(?:(?:Fatal|Parse|Recoverable fatal) error|Warning|Notice|Deprecated|Uncaught \w*(?:Error|Exception))\b"
    r"[^\n<]{0,300}\bon line \d+"
    r"|There has been a critical error on this website"
    r"|Error establishing a database connection"
    r"|Traceback \(most recent call last\)"
    r"|(?:SQLSTATE\[|You have an error in your SQL syntax)[^\n<]{0,200}"
    r"|WordPress database error[^\n<]{0,200}"
    r"|Internal Server Error|Service Unavailable|Bad Gateway", re.IGNORECASE)
_PASSING = (  # what differs from one visit to the next
    (re.compile(r"\b\d{1,2}:\d{2}(?::\d{2})?\b"), "0:00"),
    (re.compile(r"\b\d{4}-\d{2}-\d{2}T[\d:.+Z-]+"), "0000-00-00"),
    (re.compile(r"\b\d+ (?:second|sec|minute|min|hour|h|day)s?(?= (?:ago|old|left)\b)"), "some time"),
    (re.compile(r"\b[0-9a-f]{10,64}\b"), "0"))


@dataclass(frozen=True)
class Page:
    """One page as it was answered. path: from the site's base, with its query. status: of the answer, 0 where there was
    none, which `failed` explains. moved: where it led in the end, if elsewhere: a path, or a URL outside of the site.

    headings, lines: of the main text, without what is around it. frame: headings and menu entries around it. forms:
    their targets and fields. errors: printed inside the page. assets, links: inside the site. seconds: to the answer.
    size: bytes.
    """

    path: str
    status: int
    failed: str = ""
    moved: str = ""
    title: str = ""
    headings: tuple[str, ...] = ()
    lines: tuple[str, ...] = ()
    frame: tuple[str, ...] = ()
    forms: tuple[str, ...] = ()
    errors: tuple[str, ...] = ()
    assets: tuple[str, ...] = ()
    links: tuple[str, ...] = ()
    seconds: float = 0.0
    size: int = 0
    whole: bool = True  # its HTML comes to an end
    asks: bool = False  # its main text has a field for a password


def inside(base: str, url: str, here: str = "") -> str | None:
    """The path of a URL below a base URL, with its query; None where it leads elsewhere or is no address of a page."""
    try:
        full = urldefrag(urljoin(f"{base}{here or '/'}", url.strip())).url
        parts, root = urlsplit(full), urlsplit(base)
        same = (parts.hostname, parts.port or _port(parts.scheme)) == (root.hostname, root.port or _port(root.scheme))
    except ValueError:
        return None
    if parts.scheme not in ("http", "https") or not same or not (parts.path + "/").startswith(root.path + "/"):
        return None
    path = parts.path[len(root.path):] or "/"
    return path + (f"?{parts.query}" if parts.query else "")


def _port(scheme: str) -> int:
    return 443 if scheme == "https" else 80


def read(path: str, status: int, html: str, base: str, also: Iterable[str] = ()) -> Page:
    """Read a page. base: the site's URL. also: other URLs that mean the site where they stand in its text."""
    soup = BeautifulSoup(html, "html.parser")
    for mark in soup.find_all(lambda tag: any(_MARK.search(v) for v in (
            str(tag.get("id", "")), " ".join(tag.get_attribute_list("class") or [])) if v and v != "None")):
        mark.decompose()
    bases = (base, *also)
    errors = tuple(dict.fromkeys(_plain(m.group(0), bases)[:200] for m in _ERRORS.finditer(_visible(soup))))
    assets = [str(tag.get(name)) for tag, name in _assets(soup) if tag.get(name)]
    links = [str(a["href"]) for a in soup.find_all("a", href=True)]
    title = _plain(soup.title.get_text() if soup.title else "", bases)
    forms = tuple(_form(f, base, path) for f in soup.find_all("form"))
    main = _main(soup)
    heads = [_plain(h.get_text(" "), bases) for h in main.find_all(_HEADS) if not h.find_parent("aside")]
    around = [_plain(tag.get_text(" "), bases) for tag in soup.find_all((*_HEADS, "a"))
              if (tag.name != "a" or tag.find_parent("nav")) and (main not in tag.parents or tag.find_parent("aside"))]
    asks = main.find("input", type="password") is not None
    return Page(path, status, "", "", title, tuple(heads[:_MOST_LINES]), tuple(_lines(main, bases)),
                tuple(dict.fromkeys(around)), forms, errors, _all_inside(base, assets, path),
                _all_inside(base, links, path), whole="</html" in html[-2000:].lower(),
                asks=asks)


def _main(soup: BeautifulSoup) -> Tag:
    """The part of a page that holds its own text, alone; what is around it stays in the soup."""
    main = soup.find("main")
    if isinstance(main, Tag):
        return main
    body = soup.body or soup
    inner = body.find_all("article")
    return inner[0] if len(inner) == 1 else body


def _visible(soup: BeautifulSoup) -> str:
    return "".join(s for s in soup.find_all(string=True)
                     if s.parent is not None and s.parent.name not in ("script", "style", "template", "textarea", "pre",
                                                                      "code"))


def _assets(soup: BeautifulSoup) -> Iterator[tuple[Tag, str]]:
    for tag in soup.find_all(("img", "script", "source", "link")):
        if tag.name == "link":
            if "stylesheet" in tag.get_attribute_list("rel"):
                yield tag, "href"
        else:
            yield tag, "src"


def _all_inside(base: str, urls: Iterable[str], here: str) -> tuple[str, ...]:
    inside_urls = (inside(base, url, here) for url in urls
                   if not url.startswith(("data:", "#", "mailto:", "javascript:")))
    return tuple(dict.fromkeys(p for p in inside_urls if p is not None))


def _form(form: Tag, base: str, here: str) -> str:
    target = inside(base, str(form.get("action") or here), here)
    names = sorted({str(i.get("name")) for i in form.find_all(("input", "select", "textarea")) if i.get("name")
                    and i.get("type") not in ("hidden", "submit")})
    return f"{(target or str(form.get('action'))).partition('?')[0]}: {', '.join(names)}"


def _lines(main: Tag, skipped: Iterable[str]) -> Iterator[str]:
    """The main text, a block at a time."""
    for tag in main.find_all(_APART):
        tag.decompose()
    for tag in main.find_all(_BLOCKS):
        tag.insert_before("\n")
        tag.append("\n")
    count = 0
    for line in main.get_text().split("\n"):
        text = _plain(line, skipped)
        if text and count < _MOST_LINES:
            count += 1
            yield text[:_LONGEST_LINE]


def _plain(text: str, bases: Iterable[str]) -> str:
    """Text without what is merely local or passing."""
    for url in bases:
        text = text.replace(url, "")
    for pattern, stands in _PASSING:
        text = pattern.sub(stands, text)
    return " ".join(text.split())
