"""The story that `nostos demo` plays: the real commands, on a made-up site, with people at work on both sides."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from contextlib import suppress
from importlib import resources
from pathlib import Path

from nostos.core.records import dataclass
from nostos.demo.past import live_through
from nostos.demo.pictures import draw
from nostos.demo.seed import make
from nostos.demo.server import Server
from nostos.demo.system import Observatory

LIVE_URL, STAGING_URL = "http://127.0.0.1:8431", "http://127.0.0.1:8432"
SHOWING_URL = "http://127.0.0.1:8433"
VOYAGE = "autumn"
STEPS = ("clone", "week", "select", "merge", "undo", "refresh")  # where the story can be stopped


@dataclass(frozen=True)
class Scene:
    """One step: what is told, then either something that people do, or a command with the status it must end with."""

    narration: str
    act: Callable[[], None] | None = None
    command: tuple[str, ...] = ()
    status: int = 0
    shows: Path | None = None  # a file to read
    step: str = ""  # what is done when this scene is over, in a word: where the story can be stopped


class Story:
    """The story in a folder: `live`, `staging` and `voyages` are made inside it. host: the one that the sites are said
    to be on; empty: this machine."""

    def __init__(self, folder: Path, live_url: str = LIVE_URL, staging_url: str = STAGING_URL, host: str = "") -> None:
        self.host = host
        self.live_folder = folder / "live"
        self.staging_folder = folder / "staging"
        self.home = folder / "voyages"
        self.selection = folder / "autumn.toml"
        self.report = folder / "changes.html"
        self.showing = folder / "showing"
        self.servers: list[Server] = []
        self.backup = folder / "ridge.tar.zst"
        self.live_url = live_url
        self.staging_url = staging_url

    def _at(self, folder: Path) -> str:
        """A site's folder, as a command names it."""
        return f"{self.host}:{folder}" if self.host else str(folder)

    def begin(self) -> None:
        make(self.live_folder, self.live_url)

    @property
    def live(self) -> Observatory:
        return Observatory(self.live_folder)

    @property
    def staging(self) -> Observatory:
        return Observatory(self.staging_folder)

    def scenes(self, whole: bool = True) -> Iterator[Scene]:
        """The scenes in order. whole: up to the end; else up to where both sites are worth looking at."""
        yield from self._there()
        yield from self._home()
        if whole:
            yield from self._back()
            yield from self._on()

    def _there(self) -> Iterator[Scene]:
        live, staging = self._at(self.live_folder), self._at(self.staging_folder)
        yield Scene("Kestrel Ridge Observatory is live: pages, sky notes, a ticket shop. First, look it over.",
                    command=("survey", live))
        yield Scene("Make a staging copy to try the autumn redesign on.",
                    command=("clone", live, VOYAGE, "--into", staging, "--url", self.staging_url),
                    step="clone")
        yield Scene("On staging, for a week: the dusk theme, an update of the star chart that brings a table and a "
                    "column,\na new programme page with its picture, tag and menu entry, an edited page, a colour,\n"
                    "a removed page and a removed note. Someone also places a test order there.",
                    act=self.work_on_staging)
        yield Scene("On live, the same week: nine orders, three comments, a new member, a new sky note; the same\n"
                    "page edited in another paragraph, the same menu and the same theme's settings changed elsewhere,\n"
                    "and one title that both sides changed.", act=self.life_on_live)
        yield Scene("", step="week")
        yield Scene("", act=self.open_both)
        if self.servers:
            yield Scene("Both sites answer. What would a visitor notice of the work on staging?",
                        command=("trial", VOYAGE, "--remember", "redesign"))
            yield Scene("", act=self.close_both)

    def _home(self) -> Iterator[Scene]:
        yield Scene("Which versions are where?", command=("versions", VOYAGE))
        yield Scene("What has changed where? On a page for a colleague, too.",
                    command=("compare", VOYAGE, "--html", str(self.report)), status=1)
        yield Scene("A closer look: a page that both sides edited, in different paragraphs; a menu, a list, and a\n"
                    "theme's settings, a structure, that both changed in different places; the title that clashes.",
                    command=("compare", VOYAGE, "page/programme", "menu/main", "setting/theme.dusk", "page/visit"),
                    status=1)
        yield Scene("Staging removed a note that live's visitors have commented on since. That is refused.",
                    command=("compare", VOYAGE, "note/a-still-night"), status=1)
        yield Scene("The page's picture is forbidden: refused, for the page cannot stand without it.",
                    command=("merge", VOYAGE, "--take", "page/autumn-programme", "--leave", "picture/*", "--yes"),
                    status=3)
        yield Scene("What would a menu need? A dry run tells, and does nothing.",
                    command=("merge", VOYAGE, "--take", "menu/main", "--dry-run"), status=1)
        yield Scene("Decide the clash for staging's title, and write the selection to a file for a colleague to read.",
                    command=("select", VOYAGE, "--prefer", "staging", "page/visit", "--save", str(self.selection)),
                    status=1)
        yield Scene("This is the file:", shows=self.selection, step="select")
        yield Scene("", act=self.open_both)
        if self.servers and not self.host:
            yield Scene("Rehearse it first: the very same merge, on a fresh copy of live that nobody else sees.",
                        command=("rehearse", VOYAGE, "--selection", str(self.selection)))
        yield Scene("Bring it home, and watch live's pages while that happens." if self.servers else "Bring it home.",
                    command=("merge", VOYAGE, "--selection", str(self.selection), "--yes",
                             *(["--watch"] if self.servers else [])), status=1, step="merge")
        yield Scene("", act=self.close_both)
        yield Scene("Merging again does nothing: it is all there.", command=("merge", VOYAGE, "--yes"), status=1)

    def _back(self) -> Iterator[Scene]:
        yield Scene("Voyages at a glance.", command=("status",), status=1)
        yield Scene("One more order arrives, and someone finds the new opening hours wrong: take the merge back.\n"
                    "The order stays, and so does all else that live gained.", act=self.one_more_order)
        yield Scene("", command=("undo", VOYAGE, "--yes"), step="undo")
        yield Scene("They were right after all. The work is still in staging: merge it again.",
                    command=("merge", VOYAGE, "--prefer", "staging", "page/visit", "--yes"), status=1)
        yield Scene("Meanwhile staging gains a page below the new one.", act=self.one_more_page)
        yield Scene("Staging goes on for a while, so live's orders, comments and notes go into it. Its own work stays.",
                    command=("refresh", VOYAGE, "--yes"), status=1, step="refresh")
        yield Scene("A second merge of the same voyage: the new page finds its parent under live's id.",
                    command=("merge", VOYAGE, "--take", "page/autumn-talks", "--yes"), status=1)
        yield Scene("An extension that nobody here knows comes to staging: guided walks, with two tables of its own. A "
                    "walk\nbegins at the new page, and there is a test booking.", act=self.unknown_walks)
        yield Scene("The walk holds a number that means another thing on live. What is it? That is asked, once.",
                    command=("compare", VOYAGE, "--standing", "open"), status=1)
        yield Scene("It is the page where the walk begins. Now it goes home, under live's number; the booking stays.",
                    command=("learn", VOYAGE, "--answer", "ext_walks.begins=content"))
        yield Scene("", command=("merge", VOYAGE, "--take", "ext_walks/*", "--yes"), status=1)

    def _on(self) -> Iterator[Scene]:
        live = self._at(self.live_folder)
        yield Scene("Back live up: one file, of one moment.", command=("backup", live, "--to", str(self.backup)))
        yield Scene("An order comes in. Then someone empties the school page by mistake.", act=self.an_accident)
        yield Scene("What would a whole restore cost? The order. So not that.",
                    command=("restore", str(self.backup), live, "--dry-run"))
        yield Scene("Just the page, then. The order stays.",
                    command=("restore", str(self.backup), live, "--take", "page/school-groups", "--yes"))
        yield Scene("What was done, and when.", command=("history",))
        yield Scene("Staging has served its purpose.", command=("retire", VOYAGE, "--yes"))
        yield Scene("A designer from outside is to see a copy: with made-up names in it, and none of the visitors'.",
                    command=("clone", live, "showing", "--into", self._at(self.showing), "--url", SHOWING_URL,
                             "--mask"))
        yield Scene("", command=("retire", "showing", "--yes"))
        yield Scene("Twelve weeks later.", act=self.twelve_weeks)
        yield Scene("When would the next merge disturb nobody?", command=("tide", live))

    def work_on_staging(self) -> None:
        site = self.staging
        site.set("theme", "dusk")
        site.update_extension("star-chart", Path(str(resources.files("nostos.demo") / "updates" / "star-chart")))
        picture = site.add_picture("autumn-sky", "The autumn sky over the dome", draw("comet", "dusk", 21))
        season = site.add_term("season", "autumn", "Autumn")
        page = site.add("page", "autumn-programme", "Autumn evenings", "",
                        parent_id=site.find("page", "programme")["id"], fields={"picture": picture, "season": "autumn"},
                        terms=[season])
        site.edit(page, body=(
            "<p>From October we open at six, while the light still goes.</p>\n\n" + site.picture_tag(picture) +
            f"\n\n<p>Tickets are in the <a href=\"{site.address}/shop\">shop</a>; come back to "
            f"<a data-content=\"{page}\" href=\"{site.address}/autumn-programme\">this page</a> for changes.</p>\n"))
        menu = site.setting("menu.main")
        menu["entries"].insert(1, {"label": "Autumn evenings", "content": page})
        site.set("menu.main", menu)
        programme = site.find("page", "programme")
        site.edit(programme["id"], body=programme["body"].replace(
            "every clear Friday and Saturday, from nightfall to half past eleven",
            "every clear Friday, Saturday and Sunday, from nightfall to midnight"))
        visit = site.find("page", "visit")
        site.edit(visit["id"], title="How to reach the hill")
        site.remove(site.find("page", "winter-closing")["id"])
        site.remove(site.find("note", "a-still-night")["id"])
        site.set("theme.dusk", {**site.setting("theme.dusk"), "accent": "#d98e5b"})
        ticket = site.find("product", "evening-ticket")["id"]
        site.order("kr-test-7f", "Test Person", [(ticket, 1, 900)])

    def life_on_live(self) -> None:
        site = self.live
        ticket, wheel = (site.find("product", s)["id"] for s in ("evening-ticket", "star-wheel"))
        names = ("Alva Renn", "Bo Castellan", "Celia Okoro", "Dario Finch", "Edda Marsh", "Femi Larsen", "Greta Vane",
                 "Hugo Birch", "Iris Temple")
        for n, name in enumerate(names, start=1):
            site.order(f"kr-{4000 + n * 37:x}", name, [(ticket, n % 3 + 1, 900)] + ([(wheel, 1, 1450)] * (n % 2)))
        still, saturn = (site.find("note", s)["id"] for s in ("a-still-night", "saturn-at-its-best"))
        first = site.comment(still, "Alva Renn", "We heard an owl at one.")
        site.comment(still, "Tobias Lindqvist", "So did we, from the dome.", parent=first)
        site.comment(saturn, "Bo Castellan", "Booked two tickets because of this note.")
        site.join("alva", "Alva Renn")
        site.add("note", "a-fireball-at-ten", "A fireball at ten",
                 "<p>Greenish, slow, from the north. Did you see it too?</p>\n", author_id=2)
        programme = site.find("page", "programme")
        site.edit(programme["id"], body=programme["body"].replace(
            "Please bring a coat.", "Please bring a warm coat and a red lamp."))
        visit = site.find("page", "visit")
        site.edit(visit["id"], title="How to find us in the dark")
        site.set("theme.dusk", {**site.setting("theme.dusk"), "footer": "Clear skies, warm hands."})
        menu = site.setting("menu.main")
        menu["entries"].append({"label": "For schools", "content": site.find("page", "school-groups")["id"]})
        site.set("menu.main", menu)

    def one_more_order(self) -> None:
        ticket = self.live.find("product", "evening-ticket")["id"]
        self.live.order("kr-2b0f", "Jonas Weir", [(ticket, 2, 900)])

    def open_both(self) -> None:
        """Let both sites answer, if nothing else uses their ports."""
        with suppress(OSError):
            self.servers.append(Server(self.live_folder))
            self.servers.append(Server(self.staging_folder))
        if len(self.servers) < 2:
            self.close_both()
        for server in self.servers:
            server.start()

    def close_both(self) -> None:
        for server in self.servers:
            if len(self.servers) == 2:
                server.shutdown()
            server.server_close()
        self.servers.clear()

    def twelve_weeks(self) -> None:
        live_through(self.live, 12)

    def an_accident(self) -> None:
        ticket = self.live.find("product", "evening-ticket")["id"]
        self.live.order("kr-2b51", "Lotte Amsel", [(ticket, 1, 900)])
        self.live.edit(self.live.find("page", "school-groups")["id"], body="")

    def unknown_walks(self) -> None:
        site = self.staging
        site.add_walks([("Round the dome", site.find("page", "autumn-talks")["id"], 45)], ["kr-tester@ridge.example"])

    def one_more_page(self) -> None:
        parent = self.staging.find("page", "autumn-programme")["id"]
        self.staging.add("page", "autumn-talks", "Autumn talks", (
            f"<p>Each Sunday at seven, below the dome. See <a data-content=\"{parent}\" "
            f"href=\"{self.staging.address}/autumn-programme\">the evenings</a>.</p>\n"), parent_id=parent)
