"""The stand-in's web server: renders a site on loopback, so that one sees what is live."""

from __future__ import annotations

import json
import mimetypes
import re
import threading
import tomllib
from base64 import b64decode
from contextlib import suppress
from datetime import UTC, datetime
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from pathlib import Path
from typing import Any
from urllib.parse import unquote, urlsplit

from jinja2.sandbox import SandboxedEnvironment
from markupsafe import Markup

from nostos.core.sites.guards import opens
from nostos.demo.system import Observatory

_FOLDERS = ("themes", "extensions", "uploads")


class Renderer:
    """Turns a path into a page of one site."""

    def __init__(self, site: Observatory) -> None:
        self.site = site
        self._jinja = SandboxedEnvironment(autoescape=True)

    def page(self, path: str) -> str | None:
        """The HTML of a page; None when there is none."""
        with self.site.database_open() as db:
            settings = {r["name"]: json.loads(r["value"]) for r in db.execute("SELECT name, value FROM settings")}
            slug = path.strip("/").rsplit("/", 1)[-1]
            if slug:
                row = db.execute("SELECT * FROM content WHERE slug=? AND status='public' AND kind<>'picture' "
                                 "ORDER BY kind='page' DESC", (slug,)).fetchone()
            else:
                row = db.execute("SELECT * FROM content WHERE id=?", (settings["front-page"],)).fetchone()
            if row is None:
                return None
            context = {"site": self._frame(db, settings, row), "page": self._content(db, settings, row)}
        theme = re.sub(r"[^a-z0-9-]", "", settings["theme"])
        layout = (self.site.folder / "themes" / theme / "layout.html").read_text(encoding="utf-8")
        return self._jinja.from_string(layout).render(context)

    def _href(self, row: Any) -> str:
        return f"{self.site.address}/{row['slug']}"

    def _picture(self, db: Any, number: Any) -> str:
        row = db.execute("SELECT file FROM content WHERE id=? AND kind='picture'", (number,)).fetchone()
        return f"{self.site.address}/uploads/{row['file']}" if row else ""

    def _manifest(self, folder: str, name: str) -> dict[str, Any]:
        path = self.site.folder / folder / name / "manifest.toml"
        return tomllib.loads(path.read_text(encoding="utf-8")) if path.is_file() else {"title": name, "version": "?"}

    def _frame(self, db: Any, settings: dict[str, Any], here: Any) -> dict[str, Any]:
        theme = settings["theme"]
        options = settings.get(f"theme.{theme}", {})
        manifest = self._manifest("themes", theme)
        menu = []
        for entry in settings.get("menu.main", {}).get("entries", []):
            row = db.execute("SELECT * FROM content WHERE id=?", (entry.get("content"),)).fetchone()
            if row or entry.get("href"):
                menu.append({"label": entry["label"], "href": self._href(row) if row else entry["href"],
                             "here": bool(row and row["id"] == here["id"])})
        mark = settings.get("staging-mark")
        if mark:
            mark = {**mark, "age": _age(mark["since"])}
        return {
            "title": settings["title"], "tagline": settings["tagline"], "address": self.site.address,
            "theme": theme, "theme_title": manifest["title"], "theme_version": manifest["version"],
            "logo": self._picture(db, settings.get("logo")), "banner": self._picture(db, options.get("banner")),
            "footer": options.get("footer", ""), "menu": menu, "indexed": settings.get("search-engines", True),
            "staging": mark, "widgets": [self._widget(db, name) for name in settings.get("extensions", [])],
        }

    def _widget(self, db: Any, name: str) -> dict[str, Any]:
        manifest = self._manifest("extensions", name)
        path = self.site.folder / "extensions" / name / "widget.html"
        notes = [{"title": r["title"], "href": self._href(r)} for r in
                 db.execute("SELECT * FROM content WHERE kind='note' ORDER BY created DESC, id DESC LIMIT 4")]
        products = [{"title": r["title"], "href": self._href(r), "price": _price(r["cents"])} for r in db.execute(
            "SELECT content.*, content_fields.value AS cents FROM content JOIN content_fields ON content_id=content.id "
            "AND name='cents' WHERE kind='product' ORDER BY content.id")]
        tables = {r["name"] for r in db.execute("SELECT name FROM sqlite_master WHERE type='table'")}
        marks = list(db.execute("SELECT * FROM ext_star_chart_marks")) if "ext_star_chart_marks" in tables else []
        html = self._jinja.from_string(path.read_text(encoding="utf-8") if path.is_file() else "").render(
            notes=notes, products=products, marks=marks)
        return {"name": name, "title": manifest["title"], "version": manifest["version"], "html": Markup(html)}  # noqa: S704

    def _content(self, db: Any, settings: dict[str, Any], row: Any) -> dict[str, Any]:
        fields = {r["name"]: r["value"] for r in
                  db.execute("SELECT name, value FROM content_fields WHERE content_id=?", (row["id"],))}
        author = db.execute("SELECT name FROM members WHERE id=?", (row["author_id"],)).fetchone()
        children = [{"title": r["title"], "href": self._href(r)} for r in db.execute(
            "SELECT * FROM content WHERE kind='page' AND parent_id=? ORDER BY id", (row["id"],))]
        if row["id"] == settings.get("notes-page"):
            children = [{"title": r["title"], "href": self._href(r)} for r in
                        db.execute("SELECT * FROM content WHERE kind='note' ORDER BY created DESC, id DESC")]
        return {
            "title": row["title"], "body": Markup(row["body"]), "children": children,  # noqa: S704
            "under": f"{author['name']}, {row['created'][:10]}" if author else row["created"][:10],
            "picture": self._picture(db, fields.get("picture")),
            "price": _price(fields["cents"]) if "cents" in fields else "",
            "terms": [r["title"] for r in db.execute(
                "SELECT title FROM terms JOIN term_links ON term_id=id WHERE content_id=? ORDER BY title",
                (row["id"],))],
            "comments": list(db.execute("SELECT name, body FROM comments WHERE content_id=? AND status='shown' "
                                        "ORDER BY id", (row["id"],))),
            "comment_count": row["comment_count"],
        }


def _price(cents: Any) -> str:
    return f"{int(cents) / 100:.2f} EUR"


def _age(since: str) -> str:
    minutes = int((datetime.now(UTC) - datetime.fromisoformat(since)).total_seconds() // 60)
    if minutes < 60:
        return f"{minutes} min"
    return f"{minutes // 60} h" if minutes < 48 * 60 else f"{minutes // 1440} days"


class _Handler(BaseHTTPRequestHandler):
    server: Server

    def do_GET(self) -> None:
        path = unquote(urlsplit(self.path).path)
        site = self.server.renderer.site
        if not self._may_enter(str(site.setting("staging-gate", ""))):
            return None
        if path == "/robots.txt":
            open_to_all = site.setting("search-engines", True)
            return self._send("text/plain", f"User-agent: *\nDisallow:{'' if open_to_all else ' /'}\n".encode())
        if path.strip("/").split("/")[0] in _FOLDERS:
            return self._file(path)
        html = self.server.renderer.page(path)
        if html is None:
            return self._send("text/html; charset=utf-8", b"<h1>Not found</h1>", 404)
        return self._send("text/html; charset=utf-8", html.encode())

    def _may_enter(self, gate: str) -> bool:
        """Whether a visitor knows the password that the pages ask for, if they do."""
        if not gate:
            return True
        name, password = "", ""
        kind, _, credentials = self.headers.get("Authorization", "").partition(" ")
        if kind.lower() == "basic":
            with suppress(ValueError):
                name, _, password = b64decode(credentials).decode("utf-8", "replace").partition(":")
        if opens(gate, name, password):
            return True
        self.send_response(401)
        self.send_header("WWW-Authenticate", 'Basic realm="Staging copy"')
        self.send_header("Content-Length", "0")
        self.end_headers()
        return False

    def _file(self, path: str) -> None:
        site = self.server.renderer.site.folder.resolve()
        target = (site / path.lstrip("/")).resolve()
        root = site / path.strip("/").split("/")[0]
        if not target.is_relative_to(root) or not target.is_file():
            return self._send("text/plain", b"Not found\n", 404)
        return self._send(mimetypes.guess_type(target.name)[0] or "application/octet-stream", target.read_bytes())

    def _send(self, kind: str, body: bytes, status: int = 200) -> None:
        self.send_response(status)
        self.send_header("Content-Type", kind)
        self.send_header("Content-Length", str(len(body)))
        if not self.server.renderer.site.setting("search-engines", True):
            self.send_header("X-Robots-Tag", "noindex, nofollow")
        self.end_headers()
        self.wfile.write(body)

    def log_message(self, format: str, *args: Any) -> None:
        """Stay quiet."""


class Server(ThreadingHTTPServer):
    """A site's web server on loopback, at the port of the site's own address if no other is named."""

    daemon_threads = True

    def __init__(self, folder: Path, place: tuple[str, int] | None = None) -> None:
        """place: a host and a port other than the site's own."""
        self.renderer = Renderer(Observatory(folder))
        super().__init__(place or ("127.0.0.1", urlsplit(self.renderer.site.address).port or 80), _Handler)

    def start(self) -> None:
        threading.Thread(target=self.serve_forever, daemon=True).start()


if __name__ == "__main__":  # a folder, and a host and port: for a copy that is tried out on this machine
    import sys

    said_host, _, said_port = sys.argv[2].rpartition(":")
    Server(Path(sys.argv[1]), (said_host, int(said_port))).serve_forever()
