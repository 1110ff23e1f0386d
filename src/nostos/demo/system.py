"""The stand-in: a small content-managed system that stores everything where real ones store it.

Content of all kinds (pages, notes, pictures, products, orders) shares one id sequence; settings are JSON in one table;
pages hold ids and addresses inside their text. It knows nothing of Nostos, except that Nostos's guards are settings.
"""

from __future__ import annotations

import json
import shutil
import sqlite3
import tomllib
from collections.abc import Iterator, Mapping, Sequence
from contextlib import contextmanager
from datetime import UTC, datetime
from pathlib import Path
from typing import Any

CONFIGURATION = "observatory.toml"


def moment() -> str:
    return datetime.now(UTC).isoformat(sep=" ", timespec="milliseconds")[:23]


class Observatory:
    """One site of the stand-in system, in its folder."""

    def __init__(self, folder: Path) -> None:
        self.folder = folder
        with (folder / CONFIGURATION).open("rb") as file:
            section = tomllib.load(file)["site"]
        self.address: str = section["address"].rstrip("/")
        self.database = folder / section["database"]

    @contextmanager
    def database_open(self) -> Iterator[sqlite3.Connection]:
        """A connection whose changes are committed together at the end."""
        connection = sqlite3.connect(self.database, timeout=10)
        connection.row_factory = sqlite3.Row
        connection.execute("PRAGMA foreign_keys = ON")
        try:
            with connection:
                yield connection
        finally:
            connection.close()

    # --- settings

    def setting(self, name: str, default: Any = None) -> Any:
        with self.database_open() as db:
            row = db.execute("SELECT value FROM settings WHERE name=?", (name,)).fetchone()
        return json.loads(row["value"]) if row else default

    def set(self, name: str, value: Any) -> None:
        with self.database_open() as db:
            db.execute("INSERT INTO settings (name, value) VALUES (?, ?) "
                       "ON CONFLICT (name) DO UPDATE SET value = excluded.value",
                       (name, json.dumps(value, ensure_ascii=False)))

    # --- content

    def add(self, kind: str, slug: str, title: str, body: str = "", *, fields: Mapping[str, Any] | None = None,
            terms: Sequence[int] = (), **columns: Any) -> int:
        """Add a piece of content with its fields and terms. columns: status, parent_id, author_id, file, created.
        Returns its id."""
        created = columns.pop("created", None) or moment()
        row = {"kind": kind, "slug": slug, "title": title, "body": body, "status": "public", "author_id": 1,
               "created": created, "modified": created, **columns}
        with self.database_open() as db:
            number = db.execute(f"INSERT INTO content ({', '.join(row)}) VALUES ({', '.join('?' * len(row))})",
                                tuple(row.values())).lastrowid
            assert number is not None
            for name, value in (fields or {}).items():
                db.execute("INSERT INTO content_fields (content_id, name, value) VALUES (?, ?, ?)",
                           (number, name, str(value)))
            for term in terms:
                db.execute("INSERT INTO term_links VALUES (?, ?)", (number, term))
                db.execute("UPDATE terms SET uses = uses + 1 WHERE id=?", (term,))
        return number

    def edit(self, number: int, **columns: Any) -> None:
        """Change columns of a piece of content."""
        with self.database_open() as db:
            columns["modified"] = moment()
            sets = ", ".join(f"{name} = ?" for name in columns)
            db.execute(f"UPDATE content SET {sets} WHERE id=?", (*columns.values(), number))

    def set_field(self, number: int, name: str, value: Any) -> None:
        with self.database_open() as db:
            db.execute("DELETE FROM content_fields WHERE content_id=? AND name=?", (number, name))
            db.execute("INSERT INTO content_fields (content_id, name, value) VALUES (?, ?, ?)",
                       (number, name, str(value)))

    def remove(self, number: int) -> None:
        """Remove a piece of content with all that hangs on it, as an editor's Delete does."""
        with self.database_open() as db:
            db.execute("UPDATE terms SET uses = uses - 1 WHERE id IN "
                       "(SELECT term_id FROM term_links WHERE content_id=?)", (number,))
            for table, column in (("term_links", "content_id"), ("content_fields", "content_id"),
                                  ("comments", "content_id"), ("order_lines", "order_id")):
                db.execute(f"DELETE FROM {table} WHERE {column}=?", (number,))
            db.execute("DELETE FROM content WHERE id=?", (number,))

    def find(self, kind: str, slug: str) -> sqlite3.Row:
        with self.database_open() as db:
            row: sqlite3.Row = db.execute("SELECT * FROM content WHERE kind=? AND slug=?", (kind, slug)).fetchone()
        return row

    def add_term(self, taxonomy: str, slug: str, title: str) -> int:
        with self.database_open() as db:
            return int(db.execute("INSERT INTO terms (taxonomy, slug, title) VALUES (?, ?, ?)",
                                  (taxonomy, slug, title)).lastrowid or 0)

    def add_picture(self, slug: str, title: str, drawing: str, folder: str = "2026") -> int:
        """Store a picture's file and its row. Returns its id."""
        file = f"{folder}/{slug}.svg"
        path = self.folder / "uploads" / file
        path.parent.mkdir(parents=True, exist_ok=True)
        path.write_text(drawing, encoding="utf-8")
        return self.add("picture", slug, title, file=file, fields={"width": 960, "height": 540})

    def picture_tag(self, number: int) -> str:
        """The markup that shows a picture inside a text: by its id and its address."""
        with self.database_open() as db:
            file = db.execute("SELECT file FROM content WHERE id=?", (number,)).fetchone()["file"]
        return f'<figure data-picture="{number}"><img src="{self.address}/uploads/{file}" alt=""></figure>'

    # --- what visitors do

    def comment(self, number: int, name: str, body: str, parent: int | None = None) -> int:
        with self.database_open() as db:
            comment = db.execute(
                "INSERT INTO comments (content_id, parent_id, name, email, body, created) VALUES (?, ?, ?, ?, ?, ?)",
                (number, parent, name, f"{name.split()[0].lower()}@visitor.example", body, moment())).lastrowid
            db.execute("UPDATE content SET comment_count = comment_count + 1 WHERE id=?", (number,))
        return int(comment or 0)

    def order(self, reference: str, name: str, lines: Sequence[tuple[int, int, int]]) -> int:
        """Place an order: (product, quantity, cents each) a line. Sends a confirmation when mail is on."""
        email = f"{name.split()[0].lower()}@visitor.example"
        total = sum(quantity * cents for _, quantity, cents in lines)
        number = self.add("order", reference, f"Order of {name}", author_id=None, status="paid",
                          fields={"name": name, "email": email, "total": total})
        with self.database_open() as db:
            db.executemany("INSERT INTO order_lines (order_id, product_id, quantity, cents) VALUES (?, ?, ?, ?)",
                           [(number, *line) for line in lines])
        if self.setting("outgoing-mail", True):
            outbox = self.folder / "outbox"
            outbox.mkdir(exist_ok=True)
            (outbox / f"{reference}.txt").write_text(f"To: {email}\nThank you for your order {reference}.\n")
        return number

    def join(self, login: str, name: str, role: str = "member") -> int:
        with self.database_open() as db:
            return int(db.execute("INSERT INTO members (login, name, email, role, joined) VALUES (?, ?, ?, ?, ?)",
                                  (login, name, f"{login}@visitor.example", role, moment())).lastrowid or 0)

    # --- extensions

    def update_extension(self, name: str, source: Path) -> None:
        """Put a new version's folder in place and let it make the tables that it wants."""
        target = self.folder / "extensions" / name
        shutil.copytree(source, target, dirs_exist_ok=True)
        if name == "star-chart":
            with self.database_open() as db:
                db.execute("CREATE TABLE ext_star_chart_marks (id INTEGER PRIMARY KEY AUTOINCREMENT, "
                           "name TEXT NOT NULL UNIQUE, x INTEGER NOT NULL, y INTEGER NOT NULL, "
                           "page_id INTEGER REFERENCES content(id))")
                db.execute("ALTER TABLE content ADD COLUMN star_chart_sky TEXT DEFAULT 'clear'")
                db.executemany("INSERT INTO ext_star_chart_marks (name, x, y) VALUES (?, ?, ?)",
                               [("Vega", 40, 28), ("Saturn", 120, 78), ("Altair", 70, 62), ("Pleiades", 136, 34)])

    def add_walks(self, walks: Sequence[tuple[str, int, int]], guests: Sequence[str]) -> None:
        """Guided walks, of an extension that declares nothing: what each is called, the page at which it begins, and
        how many minutes it takes; and a booking of the first for each guest."""
        with self.database_open() as db:
            db.execute("CREATE TABLE ext_walks (id INTEGER PRIMARY KEY AUTOINCREMENT, title TEXT, slug TEXT, "
                       "begins INTEGER, minutes INTEGER)")
            db.execute("CREATE TABLE ext_walk_bookings (id INTEGER PRIMARY KEY AUTOINCREMENT, walk INTEGER, "
                       "email TEXT)")
            db.executemany("INSERT INTO ext_walks (title, slug, begins, minutes) VALUES (?, ?, ?, ?)",
                           [(title, title.lower().replace(" ", "-"), page, minutes) for title, page, minutes in walks])
            db.executemany("INSERT INTO ext_walk_bookings (walk, email) VALUES (1, ?)", [(guest,) for guest in guests])
