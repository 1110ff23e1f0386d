"""Making a staging copy and dropping the anchor, without stopping live."""

from __future__ import annotations

import re
import secrets
from collections.abc import Iterator, Mapping
from contextlib import contextmanager
from dataclasses import replace
from pathlib import Path
from time import monotonic
from urllib.parse import urlsplit

from nostos.core.anchor.alike import alike
from nostos.core.anchor.copy_words import remember
from nostos.core.anchor.names import Origin, Side, canonical
from nostos.core.anchor.store import SMALL_TEXT, Anchor
from nostos.core.clock import now
from nostos.core.clone.asking import asked
from nostos.core.clone.checks import check_names, check_places
from nostos.core.clone.copy_rows import Localiser, RowCopier
from nostos.core.clone.masking import Mask, recipe
from nostos.core.clone.options import PLAIN, CloneOptions, CloneResult, Leftover
from nostos.core.clone.other_machines import OtherMachine, machines_in, says_settings
from nostos.core.clone.remove import check_removable, remove, set_aside
from nostos.core.database.protocol import Database, explaining
from nostos.core.database.registry import CopyPlace, Location, MadePlace
from nostos.core.database.schema import Table
from nostos.core.errors import NoSuchDatabase, SiteError, VoyageError
from nostos.core.files.entry import STAMP, FileEntry, plain_text
from nostos.core.files.tree import CopiedFile, FileTree, Owner, SkippedFile
from nostos.core.files.trees import tree_at
from nostos.core.files.words import ending
from nostos.core.hosts.connection import reach
from nostos.core.hosts.far_path import AnyPath, below, host_of, on_machine, written
from nostos.core.learning.findings import as_data
from nostos.core.learning.learn import learn
from nostos.core.profiles.compared import TOPS, compared_tables
from nostos.core.profiles.model import Profile, ignored
from nostos.core.profiles.network import number_of, outside
from nostos.core.profiles.network import sites as network_sites
from nostos.core.progress import Listener, Progress, silent
from nostos.core.sites import env_file, php_arrays, python_settings
from nostos.core.sites import site_file as configuration
from nostos.core.sites.copy_configuration import CopyFacts, OriginalFile, adapt
from nostos.core.sites.database_words import DatabaseWords
from nostos.core.sites.fences import fenced
from nostos.core.sites.guards import Guard, guards_of, lay_guard_file, set_guards
from nostos.core.sites.left_out import left_out
from nostos.core.sites.links import follow
from nostos.core.sites.lock import check_finished
from nostos.core.sites.own_words import words_of
from nostos.core.sites.recognise import Site, check_url, recognise, recognised_from
from nostos.core.values.traces import Traces
from nostos.core.values.urls import UrlForms
from nostos.core.voyages.home import Home, Voyage, VoyageState, check_name, ready

_LARGEST_TEXT = 4 << 20  # bytes of a file that is looked through for live's address
_TEXTS = (".php", ".js", ".mjs", ".html", ".htm", ".xml", ".svg", ".txt", ".sql", ".log", ".yml", ".yaml", ".toml",
          ".env")


def clone(home: Home, where: str | Path, name: str, into: str | Path, url: str,
          options: CloneOptions = PLAIN, tell: Listener = silent) -> CloneResult:
    """Make a staging copy of the site at `where` in the new folder `into`, answering at `url`.

    Raises SiteError or VoyageError, with everything removed that was made.
    """
    check_name(name)
    start = monotonic()
    live = recognise(where)
    check_finished(live)
    if live.uncopyable:
        raise SiteError(f"{live.uncopyable}.", left="Nothing was made.",
                        next_step="Write it in the configuration as a text, or as what lies beside it, such as "
                                  "__DIR__ . '/wp-content'; then clone.")
    follow(live.files, options.follow_links)
    url = check_url(url)
    further = _further(live, url, options.addresses)
    target = written(str(into)).resolve()
    home.make()
    with home.lock(name):
        _check_voyage(home, name)
        copy = replace(live, home=target, files=tree_at(target),
                       database=_staging_database(live, target, name, options))
        passed: list[SkippedFile] = []
        entries = list(live.files.scan(live.foreign_paths(), (*ignored(live.profile), *options.skip), passed.append))
        check_places(live, target, url, copy.database, entries, options.over)
        inside = below(target, live.files.at) if live.has_files else None
        if inside is not None:  # a folder that is there, for the copy, is no part of it
            entries = [e for e in entries if e.path != str(inside) and not e.path.startswith(f"{inside}/")]
        voyage = Voyage(name, secrets.token_hex(8), recognised_from(live), _called(home, live), live.url,
                        str(target / written(recognised_from(live)).name) if live.site_file else str(target),
                        str(target), url, copy.database.shown, now())
        work = Cloning(home, voyage, live, copy, replace(options, addresses=dict(further)), (entries, passed), tell)
        home.write(voyage)
        try:
            with fenced(live, copy):
                result = work.run()
        except BaseException:
            remove(home, voyage)
            raise
    return replace(result, seconds=monotonic() - start)


def _further(live: Site, url: str, addresses: Mapping[str, str]) -> list[tuple[str, str]]:
    """Further addresses of live, and of the copy, in full. Raises SiteError."""
    pairs = [(check_url(_full(live_address, live.url)), check_url(_full(here, url))) for live_address,
             here in addresses.items()]
    every = [live.url, url, *(address for pair in pairs for address in pair)]
    twice = [address for address in dict.fromkeys(every) if pairs and every.count(address) > 1]
    if twice:
        raise SiteError(f"The address {twice[0]} is given twice.", left="Nothing was made.",
                        next_step="Give each of live's further addresses one of its own in the copy.")
    return pairs


def _full(address: str, like: str) -> str:
    return address if "://" in address else f"{like.partition('://')[0]}://{address}"


def _called(home: Home, live: Site) -> str:
    """What a site is called: a copy has the name of what it is a copy of, and is told from it."""
    where = recognised_from(live)
    of = next((name for name in home.names() if home.read(name).staging == where), "")
    return f"the staging of voyage {of}" if of else live.name


def _check_voyage(home: Home, name: str) -> None:
    if name not in home.names():
        check_removable(home, name)
        home.clear(name)  # what a crash may have left of one
    if name in home.names():
        old = home.read(name)
        if old.state is VoyageState.READY:
            raise VoyageError(f"There is a voyage named {name} already, of {old.live_name}.",
                              next_step=f"Choose another name, or `nostos retire {name}` first.")
        remove(home, old)  # an interrupted clone leaves nothing that anyone relies on


def _staging_database(live: Site, target: AnyPath, name: str, options: CloneOptions) -> Location:
    """Where staging's tables go: as asked for, else beside live's."""
    engine = live.database.engine
    if not options.names_database:
        return engine.beside(live.database, live.home, target, name)
    return engine.asked(live.database, options.database, options.prefix, target if host_of(target) else Path.cwd())


class Cloning:
    """One clone. copy: where it goes, as a site. scanned: the files of live's that go along, and those passed over."""

    def __init__(self, home: Home, voyage: Voyage, live: Site, copy: Site, options: CloneOptions,
                 scanned: tuple[list[FileEntry], list[SkippedFile]], tell: Listener) -> None:
        self.home, self.voyage, self.live, self.options, self.tell = home, voyage, live, options, tell
        self.target = target = copy.home
        self.database = self.location_for_copy = copy.database
        self.entries, self.passed = scanned
        self.skip_rows: tuple[str, ...] = tuple(options.skip_rows)
        self.masked: dict[str, int] = {}
        self.live_home, self.place = tree_at(live.home), tree_at(target)
        within = self.live_home.within(live.files.at)
        self.inside = "files" if within is None else within  # where the copy's tree is, in its folder
        self.files = tree_at(target / self.inside)
        self.profile: Profile = live.profile
        mine, theirs = (on_machine(t.at) for t in (live.files, self.files)) if live.has_files else ("", "")
        self.mark = f"STAGING COPY of {live.name}: voyage {voyage.name}"
        further = tuple(options.addresses.items())
        self.live_urls = UrlForms(live.url, folder=mine, further=[(address,) for address, _ in further])
        self.staging_urls = UrlForms(voyage.url, (live.url,), theirs, (mine,) if mine else (),
                                     [(here, address) for address, here in further])
        self.elsewhere: tuple[str, ...] = ()
        self.databases = DatabaseWords.of(live.database), DatabaseWords.of(self.database)
        self.naming: set[str] = set()  # files that name the database, and have the copy's own
        self.words = words_of(self.live_urls, self.staging_urls)
        self.traces = Traces(self.live_urls, self.staging_urls)
        self.left: list[Leftover] = []
        self.machines: list[OtherMachine] = []
        self.own_hosts = {str(urlsplit(url).hostname) for both in ((live.url, voyage.url), *further) for url in both}
        self.rewritten = 0
        self.rows = 0

    def run(self) -> CloneResult:
        """Make the copy, and drop the anchor. Nobody can look into its folder until its guards are set. An error leaves
        what was made to the caller, which removes it."""
        begun = self.target.stat().st_mode & 0o7777 if self.target.is_dir() else None
        self.place.make_root()
        self._closed(0o700)  # nobody looks in, and no server answers from here, until all is as it must be
        self.place.write(STAMP, self.voyage.id.encode() + b"\n", 0o600)
        if self.options.over:
            set_aside(self.place)
        anchor = Anchor.create(self.home.folder(self.voyage.name) / "anchor.db")
        try:
            with anchor.changing():
                tables, proved = self._database(anchor)
                guards = self._guards(anchor, tables)
                files, size = self._files(anchor)
                laid = self._guard_file()
                anchor.set_fact("since", self.voyage.since)
                anchor.set_fact("skip", list(self.options.skip))
                anchor.set_fact("over", self.options.over)
                anchor.set_fact("skip_rows", list(self.skip_rows))
                anchor.set_fact("followed", dict(self.live.files.followed))
                anchor.set_fact("gate", self.options.gate)
                remember(anchor, self.live_urls, self.staging_urls, self.naming)
            self._configuration()
            self._answers()
            self._open_up(begun)
            question = self.live.profile.question
            unasked = None if question is None else asked(
                question, self.target / self.inside, self.voyage.url, self.database)
            done = ready(self.voyage)
            host = host_of(self.target)
            if host:  # whether that machine has gone down since is not to be seen from here
                reach(host).ask("flush")
                done = replace(done, unflushed="")
            self.home.write(done)
        finally:
            anchor.close()
        return CloneResult(done, len(tables), self.rows, files, size, self.rewritten, proved,
                           (*guards, *laid, *self._own_module()),
                      tuple(self.passed), tuple(n for n, t in tables.items() if not t.key), 0.0,
                      self.masked if self.options.mask else None, tuple(self.left), unasked,
                      tuple(self.options.addresses.items()), self.elsewhere, tuple(self.machines), self._program(),
                      self.inside, self._private())

    def _program(self) -> str:
        first = self.profile.serve[0] if self.profile.serve else ""
        return "python" if "python" in first or (self.target / self.inside / "manage.py").is_file() else first

    def _private(self) -> tuple[str, ...]:
        return tuple(dict.fromkeys(self.live.foreign_paths()))

    def _database(self, anchor: Anchor) -> tuple[dict[str, Table], int]:
        """Copy live's rows of one moment; the snapshot, and the connection, end with that."""
        with self._moment() as (source, place, tables):
            network = self.profile.network
            members = network_sites(network, source, tables) if network is not None else {}
            if self.options.of_site:
                anchor.set_fact("network_site", number_of(members, self.options.of_site))
            self.elsewhere = tuple(outside(members, [base.rest for base in self.live_urls.bases]))
            self.tell(Progress("learning", 0, None, "tables"))
            learned = learn(source, tables, self.profile, address=self.live_urls.pieces())
            anchor.set_fact("learned", as_data(learned))
            seen = compared_tables(learned.over(self.profile), tables)
            anchor.set_fact(TOPS, {n: source.top(t) or 0 for n, t in tables.items() if t.surrogate and n not in seen})
            self.skip_rows = left_out(self.skip_rows, tables, learned.over(self.profile))
            self.profile = replace(self.profile, pieces=(*self.profile.pieces, *learned.pieces),
                                   personal=learned.personal)
            return tables, self._rows_of(anchor, source, self._opened(place), tables)

    @contextmanager
    def _moment(self) -> Iterator[tuple[Database, CopyPlace, dict[str, Table]]]:
        """Live's database as it is at one moment, a place made for the copy, and live's tables."""
        source = self.live.open(readonly=True)
        try:
            place = self._make_place(source)
            with explaining(source), source.reading():
                tables = source.tables()
                if not tables and source.prefix:
                    raise SiteError(f"The database {self.live.database.shown} has no table whose name begins with "
                                    f"{source.prefix!r}.", left="Nothing was copied.",
                                    next_step="Correct the prefix in the site's settings, or in its site file.")
                self.profile = self.live.full_profile(tables)
                yield source, place, tables
        finally:
            source.close()

    def _make_place(self, source: Database) -> CopyPlace:
        """Make the place for the copy's tables, and take down what it is before anything is put there."""
        if self._is_missing():  # a database is made by itself: between that and this record one may be stopped
            engine = self.database.engine
            self.voyage = replace(self.voyage, place=engine.place_of(self.database), made=MadePlace.BEGUN,
                                  engine=engine.name)
            self.home.write(self.voyage)
        place = self.database.engine.make_place(
            self.live.database, self.database, self.options.names_database, self._fallback_prefix())
        names = (*source.tables(), *source.views())  # the place is marked by now, if it is beside live's tables
        self.database, self.location_for_copy = place.location, place.for_copy
        self.voyage = replace(
            self.voyage, database=place.location.shown, place=place.location.engine.place_of(place.location),
            prefix=place.location.prefix, made=place.made,
            engine=place.location.engine.name,
            tables=tuple(place.location.prefix + name for name in names),
            elsewhere=place.location.file is None and not self.live.database.on_server_of(place.location),
            user=f"{place.user[0]}@{place.user[1]}" if place.user else "")
        self.home.write(self.voyage)
        check_names(place.location, names)
        return place

    def _is_missing(self) -> bool:
        """Whether the copy's database is not there yet, on live's server."""
        if self.database.file is not None:
            return False
        try:
            self.database.open(readonly=True).close()
        except SiteError as error:
            return isinstance(error, NoSuchDatabase) and self.live.database.on_server_of(self.database)
        return False

    def _opened(self, place: CopyPlace) -> Database:
        """Staging's database, open for filling. A file belongs to whom live's does: from the start, for whatever the
        engine lays beside it follows it."""
        file, live_file = self.database.file, self.live.database.file
        opened = place.open()
        if file is not None and live_file is not None:
            _as(tree_at(file.parent), file.name, tree_at(live_file.parent), live_file.name)
        return opened

    def _open_up(self, mode: int | None) -> None:
        """Let the web server in: the folders above what was copied as live's are, the whole as it was or as live's."""
        paths = [self.inside] if self.live.has_files else []
        file = self.database.file
        paths += [self.place.within(file.parent) or ""] if file is not None else []
        for path in paths:
            while path:
                if self.live_home.is_folder(path):
                    _as(self.place, path, self.live_home, path)
                else:
                    _as(self.place, path, self.live.files if path == self.inside else self.live_home, "")
                path = path.rpartition("/")[0]
        if mode is None:
            _as(self.place, "", self.live_home, "")
        else:
            self._closed(mode)

    def _closed(self, mode: int) -> None:
        self.place.give("", self.place.owner(""), mode)

    def _fallback_prefix(self) -> str:
        return re.sub(r"[^a-z0-9]", "", self.voyage.name.lower())[:12] + "_" + self.live.database.prefix

    # --- the database: live's rows of one moment go into staging and into the anchor

    def _rows_of(self, anchor: Anchor, source: Database, target: Database, tables: dict[str, Table]) -> int:
        """Copy every row. Returns how many were read back and found equal."""
        local = Localiser(self.live_urls, self.staging_urls, (self.live.database.prefix, self.database.prefix),
                          self.profile, self._mask(anchor, source, tables), self.traces)
        copier = RowCopier(anchor, source, target, local, self.tell, far=bool(self.live.database.host))
        try:
            for name in self.skip_rows:
                for side in Side:
                    anchor.remember_table(side, tables[name])
            copier.run({n: t for n, t in tables.items() if n not in self.skip_rows})
            anchor.know_alike(alike(tables, target.tables()))
        finally:
            target.close()
        self.rows, self.rewritten = copier.rows, copier.rewritten
        self.masked = local.mask.counts if local.mask else {}
        self.left += [Leftover(place, count, texts) for place, (count, texts) in sorted(local.left.items())]
        return copier.proved

    def _mask(self, anchor: Anchor, source: Database, tables: dict[str, Table]) -> Mask | None:
        if not self.options.mask:
            return None
        made = recipe(self.profile, source, tables)
        anchor.set_fact("mask", made.data())
        return Mask(made, self.profile, tables)

    # --- files

    def _files(self, anchor: Anchor) -> tuple[int, int]:
        done, size = 0, 0
        for copied in self._copied(SMALL_TEXT):
            entry = replace(copied.entry, digest=copied.digest)
            stamp = self._in_own_words(entry, copied.head) or copied.stamp
            anchor.keep_copied(entry, replace(entry, stamp=stamp), plain_text(copied.head))
            done, size = done + 1, size + entry.size
        return done, size

    def _copied(self, small: int) -> Iterator[CopiedFile]:
        """Copy every file; gives each that is there. small: up to how many bytes its content is given along."""
        done, size = 0, 0
        for copied in self.files.copy_all(self.live.files, self.entries, small) if self.live.has_files else ():
            path, error = copied.entry.path, copied.error
            if isinstance(error, FileNotFoundError):
                self.passed.append(SkippedFile(path, "vanished while it was being copied"))
                continue
            if error is not None:
                raise SiteError(f"The file {path} could not be copied: {error.strerror}.",
                                left="Live was only read; what had been copied was removed.",
                                next_step="Mend it, or leave it out with --skip.") from error
            yield copied
            done, size = done + 1, size + copied.entry.size
            if done % 50 == 0 or done == len(self.entries):
                self.tell(Progress("files", done, len(self.entries), "files", size))

    def _in_own_words(self, entry: FileEntry, content: bytes | None) -> tuple[int, int] | None:
        """Write a text file anew where it speaks of live, if it is of a known kind, and could be written back. Returns
        its new stamp, if it was. content: the file's, if it is small."""
        known = bool(ending(entry.path))
        if entry.kind != "file" or entry.size > _LARGEST_TEXT or (content is None and not (
                known or entry.path.endswith(_TEXTS))):
            return None
        content = self.files.read(entry.path) if content is None else content
        name, new, stamp = entry.path, content, None
        naming = self.databases[0] != self.databases[1] and self.databases[0].may_be_in(content)
        words = words_of(self.live_urls, self.staging_urls, self.databases, {name}) if naming else self.words
        if (known or naming) and words.own(name, content) != content:
            new = words.own(name, content)
            if words.live(name, new) != content:
                new = content
            elif naming and self.databases[0].named(content.decode("utf-8", "replace")):
                self.naming.add(name)
        if new != content:
            owner = self.files.owner(name)
            self.files.remove(name)
            self.files.write(name, new, entry.mode, owner)
            made = self.files.status(name)
            stamp = (made.modified, made.changed) if made is not None else None
        settings = says_settings(name) and len(new) <= SMALL_TEXT
        text = new.decode("utf-8", "replace") if b"\0" not in new and (
            naming or settings or self.traces.may_be_in(new)) else ""
        self.machines += machines_in(name, text, self.own_hosts) if settings else ()
        if naming and (hits := self.databases[0].named(text)):
            self.left.append(Leftover(name, 1, hits, True))
        elif hits := self.traces.trace_in(text):
            self.left.append(Leftover(name, 1, hits))
        return stamp

    # --- what makes it a site of its own

    def _configuration(self) -> None:
        # A configuration one folder up from live's files goes into staging's own folder.
        values = {}
        for name in self.live.configuration_files:
            path = self.live.home / name
            info = path.stat()
            values[name.removeprefix("../")] = OriginalFile(
                configuration.read_bounded(path), info.st_mode & 0o7777, Owner(info.st_uid, info.st_gid))
        old = str(self.live.database.url.database)
        as_live = (self.database.file is None and not self.database.none and self.live.site_file
                   and not self.voyage.elsewhere and not self.voyage.user)
        kept = configuration.other_database(self.live.home / self.live.configuration_files[0], old, str(
            self.database.url.database)) if as_live else None
        files = (self.inside or ".") if self.live.has_files else None
        prefixed = self.database.prefix != self.live.database.prefix
        profile = str(self.live.home / self.live.profile_file) if self.live.profile_file and not (
            self.target / self.live.profile_file).exists() else None
        adapt(CopyFacts(self.target, self.voyage.url, self.location_for_copy, files, prefixed, kept, profile,
                        (self.live_urls, self.staging_urls),
                        self.mark), values,
              self.live.profile.configuration)

    def _guards(self, anchor: Anchor, tables: dict[str, Table]) -> list[Guard]:
        guards = guards_of(self.live, self._facts())
        if self.options.gate and not (self.profile.gate_setting or self.profile.guard_file):
            raise SiteError("It is not known how this site's pages can ask for a password.",
                            left="Live was only read; the copy was removed.",
                            next_step="Leave --gate out, and protect the copy by the web server.")
        if not guards:
            return []
        database = self.database.open()
        try:
            with database.writing():
                set_guards(self.live, database, guards)
            # What the guards changed, a trigger's doing included, is staging's own from the start.
            for table in tables.values():
                for move in list(anchor.moves(Side.STAGING, database, table)) if table.key else []:
                    if move.born and table.surrogate:
                        # Live will give out this very key to something else.
                        anchor.pair(Side.STAGING, table.name, move.key[0],
                                    canonical(Origin.GUARDS, move.key[0]))
                    anchor.set_digest(Side.STAGING, table.name, move.key, move.digest)
        finally:
            database.close()
        gate = self.options.gate
        return [Guard(g.name, "asks for a name and a password") if g.value == gate else g for g in guards]

    def _facts(self) -> dict[str, str]:
        return {"voyage": self.voyage.name, "since": self.voyage.since, "live": self.live.name,
                "gate": self.options.gate}

    def _own_module(self) -> list[Guard]:
        made = env_file.PROGRAM in self.live.configuration_files
        return [*([Guard(python_settings.FILE, python_settings.GUARDED)] if made else []),
                *(Guard(n, php_arrays.GUARDED) for n in self.live.configuration_files if php_arrays.is_one(n))]

    def _guard_file(self) -> list[Guard]:
        return lay_guard_file(self.profile, self.files, self._facts())

    def _answers(self) -> None:
        """The copy must be recognised as a site of its own."""
        staging = recognise(self.voyage.staging)
        if not staging.database.same_as(self.database) or staging.url != self.voyage.url:
            raise SiteError("The copy's configuration does not lead to its own database and URL.",
                            left="Live was only read; the copy was removed.",
                            next_step="Check that the site file names `url` and `database` plainly.")


def _as(tree: FileTree, path: str, models: FileTree, model: str) -> None:
    """Give something that Nostos made the rights of another, and its owner, where that is allowed."""
    info = models.status(model)
    if info is not None and tree.status(path) is not None:
        tree.give(path, Owner(info.user, info.group), info.rights)
