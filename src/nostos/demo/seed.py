"""Kestrel Ridge Observatory as it is before the story starts. Everything in it is invented."""

from __future__ import annotations

import shutil
import sqlite3
from collections.abc import Mapping
from importlib import resources
from pathlib import Path

from nostos.demo.pictures import draw
from nostos.demo.system import CONFIGURATION, Observatory

_CONFIGURATION = """\
# The observatory's own configuration. The web server and the scheduler read it.
[site]
name = "kestrel-ridge"
address = "{url}"        # no slash at the end
database = "data/site.db"

[paths]
uploads = "uploads"      # pictures
"""


def make(folder: Path, url: str) -> Observatory:
    """Make the live site in a new folder, answering at `url`."""
    shutil.copytree(str(resources.files("nostos.demo") / "site"), folder)
    (folder / CONFIGURATION).write_text(_CONFIGURATION.format(url=url), encoding="utf-8")
    (folder / "data").mkdir()
    connection = sqlite3.connect(folder / "data" / "site.db")
    connection.execute("PRAGMA journal_mode = wal")
    connection.executescript((resources.files("nostos.demo") / "schema.sql").read_text())
    connection.close()
    site = Observatory(folder)
    _people(site)
    _fill(site)
    return site


def _people(site: Observatory) -> None:
    site.join("maren", "Maren Oduya", "administrator")
    site.join("tobias", "Tobias Lindqvist", "editor")
    for login, name in (("ines", "Ines Barreto"), ("kofi", "Kofi Adair"), ("runa", "Runa Solheim")):
        site.join(login, name)


def _fill(site: Observatory) -> None:
    family, evening, school = (site.add_term("audience", slug, title) for slug, title in
                               (("families", "Families"), ("evenings", "Evenings"), ("schools", "Schools")))
    planets = site.add_term("subject", "planets", "Planets")
    dome = site.add_picture("dome-at-dusk", "The dome at dusk", draw("dome", "dusk", 3))
    trails = site.add_picture("star-trails", "Star trails over the ridge", draw("trails", "night", 7))
    saturn = site.add_picture("saturn-sketch", "Saturn, as sketched at the eyepiece", draw("saturn", "night", 11))
    wheel = site.add_picture("star-wheel", "The star wheel", draw("wheel", "dusk", 5))
    hill = site.add_picture("ridge-by-day", "The ridge by day", draw("hill", "day", 9))

    home = site.add("page", "welcome", "The sky, from a quiet hill", (
        "<p>Kestrel Ridge is a small public observatory on a hill with no street lamps. On clear evenings we open the "
        "dome, and whoever has come up the path may look.</p>\n\n"
        + site.picture_tag(dome) +
        f"\n\n<p>See the <a href=\"{site.address}/programme\">programme</a>, or read what we "
        f"<a href=\"{site.address}/notes\">wrote down lately</a>.</p>\n"), terms=[family])
    programme = site.add("page", "programme", "Programme", (
        "<p>We open on every clear Friday and Saturday, from nightfall to half past eleven.</p>\n\n"
        "<p>Talks are given in the lower room, rain or stars.</p>\n\n"
        "<p>Please bring a coat. The dome is not heated, for the air has to be still.</p>\n"), terms=[evening],
        fields={"picture": trails, "season": "all year"})
    site.add("page", "school-groups", "School groups", (
        "<p>Groups of up to twenty-four come on Tuesday mornings, to look at the sun through a filter.</p>\n\n"
        f"<p>Write to office@kestrel-ridge.example, or see <a data-content=\"{programme}\" "
        f"href=\"{site.address}/programme\">the programme</a>.</p>\n"), parent_id=programme, terms=[school])
    site.add("page", "winter-closing", "Closed in deep winter", (
        "<p>The path is closed while it is icy, mostly in January.</p>\n"), parent_id=programme)
    visit = site.add("page", "visit", "How to find us", (
        "<p>Take the upper road to the water tower, then walk for ten minutes.</p>\n\n" + site.picture_tag(hill) +
        "\n\n<p>The gate closes at midnight.</p>\n"), fields={"picture": hill})
    shop = site.add("page", "shop", "Shop", "<p>Tickets for the evening, and a wheel that shows the sky.</p>\n")
    notes = site.add("page", "notes", "Sky notes", "<p>What we saw, and when.</p>\n")

    ticket = site.add("product", "evening-ticket", "Evening ticket", "<p>One evening at the telescope.</p>\n",
                      fields={"cents": 900, "picture": dome}, terms=[evening])
    star_wheel = site.add("product", "star-wheel", "Star wheel", "<p>Card and brass, for any night of the year.</p>\n",
                          fields={"cents": 1450, "picture": wheel}, terms=[family])
    saturn_note = site.add("note", "saturn-at-its-best", "Saturn at its best", (
        "<p>The rings are open wide this month. " + "At 120 times one sees the dark gap between them.</p>\n\n"
        + site.picture_tag(saturn) + "\n"), terms=[planets], author_id=2, fields={"picture": saturn})
    still = site.add("note", "a-still-night", "A still night", (
        "<p>No wind at all. The stars did not twinkle until two.</p>\n"), author_id=2)
    site.comment(saturn_note, "Ines Barreto", "We saw the gap! The children will not stop drawing it.")
    site.comment(saturn_note, "Kofi Adair", "Which eyepiece was it?")
    site.comment(still, "Runa Solheim", "Even the foxes were quiet.")
    for n, (name, quantity) in enumerate((("Ines Barreto", 2), ("Kofi Adair", 1), ("Runa Solheim", 4)), start=1):
        site.order(f"kr-{n:02d}a{n * 7}", name, [(ticket, quantity, 900), (star_wheel, 1, 1450)])

    _settings(site, {"hill": hill, "trails": trails, "dome": dome, "home": home, "notes": notes, "programme": programme,
                     "shop": shop, "visit": visit})


def _settings(site: Observatory, ids: Mapping[str, int]) -> None:
    escaped = site.address.replace("/", "\\/")
    encoded = site.address.replace(":", "%3A").replace("/", "%2F")
    for name, value in {
        "title": "Kestrel Ridge Observatory",
        "tagline": "Open on clear evenings",
        "address": site.address,
        "secret-key": "3f9a-made-up",
        "theme": "meadow",
        "theme.meadow": {"banner": ids["hill"], "accent": "#2f6b4f", "footer": f"Find us at {site.address}/visit"},
        "theme.dusk": {"banner": ids["trails"], "accent": "#f0b27a", "footer": "Clear skies."},
        "extensions": ["night-log", "star-chart"],
        "front-page": ids["home"],
        "notes-page": ids["notes"],
        "logo": ids["dome"],
        "menu.main": {"title": "Main", "entries": [
            {"label": "Programme", "content": ids["programme"]}, {"label": "Sky notes", "content": ids["notes"]},
            {"label": "Shop", "content": ids["shop"]}, {"label": "How to find us", "content": ids["visit"]}]},
        "shop": {"currency": "EUR", "payment": "live", "return": f"{site.address}/shop/thanks",
                 "feed": f"https://feeds.example/?from={encoded}%2Fshop"},
        "jobs.next": {"send-newsletter": "2026-11-27 06:00"},
        "outgoing-mail": True,
        "scheduled-jobs": True,
    }.items():
        site.set(name, value)
    with site.database_open() as db:  # written by another hand: slashes escaped, as some programs do
        db.execute("INSERT INTO settings (name, value) VALUES ('newsletter', ?)",
                   (f'{{"archive":"{escaped}\\/notes","sender":"Kestrel Ridge"}}',))
        db.execute("INSERT INTO cache VALUES ('front', 'old', '2026-11-23')")
        db.execute("INSERT INTO sessions VALUES ('5c1e', 3, '2026-11-23')")
