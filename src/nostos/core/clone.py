"""Making a staging copy and dropping the anchor, without stopping live."""

from __future__ import annotations

import os
import secrets
import shutil
import sqlite3
from collections.abc import Sequence
from contextlib import suppress
from dataclasses import dataclass, replace
from pathlib import Path
from time import monotonic

from nostos.core import configuration
from nostos.core.anchor import SMALL_TEXT, Anchor
from nostos.core.database import database_path
from nostos.core.database.digests import block_of, row_digest
from nostos.core.database.schema import Key, Table, Value
from nostos.core.database.sqlite import SqliteDatabase, finish_copy, scan_attached, update_attached
from nostos.core.errors import NostosError, SiteError, VoyageError
from nostos.core.guards import Guard, guards_of, set_guards
from nostos.core.history import now
from nostos.core.keys import Side
from nostos.core.profiles.model import Profile
from nostos.core.progress import Listener, Progress, silent
from nostos.core.site import Site, check_url, recognise
from nostos.core.tree.copy import copy_entry, copy_folders
from nostos.core.tree.entries import Entry, Passed, scan
from nostos.core.values.rewriting import rewritten
from nostos.core.values.urls import UrlForms
from nostos.core.voyage import STAMP, Home, Voyage, check_name, ready

_ROWS_AT_ONCE = 16384
_SPARE = 64 * 1024 * 1024  # bytes left free on staging's disk


@dataclass(frozen=True)
class Cloned:
    """What clone made. rewritten: rows in which live's URL became staging's. proved: rows found equal afterwards."""

    voyage: Voyage
    tables: int
    rows: int
    files: int
    file_bytes: int
    rewritten: int
    proved: int
    guards: tuple[Guard, ...]
    passed: tuple[Passed, ...]
    unkeyed: tuple[str, ...]
    seconds: float


def clone(home: Home, where: str | Path, name: str, into: str | Path, url: str, database: str | None = None,
          skip: Sequence[str] = (), tell: Listener = silent) -> Cloned:
    """Make a staging copy of the site at `where` in the new folder `into`, answering at `url`.

    database: staging's own, as a SQLite URL or path; left out: beside staging's files, as live's lies to live's.
    skip: patterns of files to leave out. Raises SiteError or VoyageError, with everything removed that was made.
    """
    check_name(name)
    start = monotonic()
    live = recognise(where)
    url = check_url(url)
    target = Path(into).expanduser().resolve()
    home.make()
    with home.lock(name):
        _check_voyage(home, name)
        staging_db = _staging_database(live, target, database)
        _check_places(live, target, url, staging_db)
        voyage = Voyage(name, secrets.token_hex(8), str(_recognised_from(live)), live.name, live.url,
                        str(target / Path(_recognised_from(live)).name) if live.site_file else str(target),
                        str(target), url, str(staging_db), now())
        work = _Clone(home, voyage, live, target, staging_db, skip, tell)
        home.write(voyage)
        try:
            result = work.run()
        except BaseException:
            remove(home, voyage)
            raise
    return replace(result, seconds=monotonic() - start)


def _recognised_from(site: Site) -> Path:
    return site.home / site.own[0] if site.site_file else site.home


def _check_voyage(home: Home, name: str) -> None:
    if name in home.names():
        old = home.read(name)
        if old.state == "ready":
            raise VoyageError(f"There is a voyage named {name} already, of {old.live_name}.",
                              next_step=f"Choose another name, or `nostos retire {name}` first.")
        remove(home, old)  # an interrupted clone leaves nothing that anyone relies on


def _staging_database(live: Site, target: Path, wanted: str | None) -> Path:
    if wanted is not None:
        return database_path(wanted if "://" in wanted else f"sqlite:///{wanted}", Path.cwd()).resolve()
    with suppress(ValueError):
        return target / live.database.relative_to(live.home)
    return target / "data" / live.database.name


def _check_places(live: Site, target: Path, url: str, staging_db: Path) -> None:
    if target.exists() and not target.is_dir():
        raise SiteError(f"{target} is not a folder.", next_step="Name a folder that does not exist yet.")
    if target.is_dir() and any(target.iterdir()):
        raise SiteError(f"The folder {target} is not empty.", next_step="Name a new folder, or empty this one.")
    for tree in (live.files, live.home):
        if target == tree or target.is_relative_to(tree):
            raise SiteError(f"The folder {target} lies inside live's own tree, {tree}.",
                            next_step="Name a folder beside the live site, not in it.")
        if tree.is_relative_to(target):
            raise SiteError(f"Live's own tree, {tree}, lies inside the folder {target}.",
                            next_step="Name a folder beside the live site.")
    if staging_db == live.database:
        raise SiteError("Staging would use live's own database.",
                        next_step="Name another one with --database, or leave it out.")
    if staging_db.exists():
        raise SiteError(f"There is a database at {staging_db} already.", next_step="Name another one.")
    if url == live.url:
        raise SiteError("Staging would have live's own URL.", next_step="Give staging a URL of its own with --url.")
    parent = target
    while not parent.exists():
        parent = parent.parent
    if not os.access(parent, os.W_OK):
        raise SiteError(f"You may not write in {parent}.", next_step="Choose another folder, or ask for the right.")
    need = live.database.stat().st_size * 2
    need += sum(f.stat().st_size for f in live.files.rglob("*") if f.is_file() and not f.is_symlink())
    free = shutil.disk_usage(parent).free
    if free < need + _SPARE:
        raise SiteError(f"{parent} has {free >> 20} MB free, and the copy needs about {need >> 20} MB.",
                        next_step="Choose a folder on another disk, or leave folders out with --skip.")


class _Clone:
    def __init__(self, home: Home, voyage: Voyage, live: Site, target: Path, staging_db: Path, skip: Sequence[str],
                 tell: Listener) -> None:
        self.home = home
        self.voyage = voyage
        self.live = live
        self.target = target
        self.database = staging_db
        self.skip = tuple(skip)
        self.tell = tell
        self.files = target / live.files.relative_to(live.home) if live.files.is_relative_to(live.home) else (
            target / "files")
        self.profile: Profile = live.profile
        self.live_urls = UrlForms(live.url)
        self.staging_urls = UrlForms(voyage.url, also=(live.url,))
        self.passed: list[Passed] = []
        self.rewritten = 0
        self.rows = 0

    def run(self) -> Cloned:
        self.target.mkdir(mode=0o755, parents=True, exist_ok=True)
        (self.target / STAMP).write_text(self.voyage.id + "\n")
        anchor = Anchor.create(self.home.folder(self.voyage.name) / "anchor.db")
        try:
            with anchor.changing():
                expected, unkeyed = self._database(anchor)
                files, size = self._files(anchor)
                self._configuration()
                proved = self._prove(anchor, expected)
                guards = self._guards(anchor, expected)
                anchor.set_fact("since", self.voyage.since)
                anchor.set_fact("skip", list(self.skip))
            self._answers()
            done = ready(self.voyage)
            self.home.write(done)
        finally:
            anchor.close()
        return Cloned(done, len(expected), self.rows, files, size, self.rewritten, proved, tuple(guards),
                      tuple(self.passed), unkeyed, 0.0)

    # --- the database: one snapshot, copied inside the engine; the anchor reads the same snapshot

    def _database(self, anchor: Anchor) -> tuple[dict[str, Table], tuple[str, ...]]:
        self.database.parent.mkdir(parents=True, exist_ok=True)
        source = self.live.open(readonly=True)
        assert isinstance(source, SqliteDatabase)
        try:
            self.profile = self.live.full_profile(source)
            tables = source.tables()
            self.tell(Progress("database", 0, None, "rows"))
            connection = source.copy_into(self.database)
            try:
                for table in tables.values():
                    for side in Side:
                        anchor.remember_table(side, table)
                    if table.key:
                        self._table(anchor, connection, table)
                    else:
                        self._unkeyed(connection, table)
                finish_copy(connection)
                connection.execute("COMMIT")
            except sqlite3.Error as error:
                raise SiteError(f"Copying the database failed: {error}.", left="Live was only read.",
                                next_step="`nostos survey` may say why.") from error
            finally:
                connection.close()
        finally:
            source.close()
        self.database.chmod(self.live.database.stat().st_mode & 0o777)
        return tables, tuple(n for n, t in tables.items() if not t.key)

    def _table(self, anchor: Anchor, connection: sqlite3.Connection, table: Table) -> None:
        """Keep live's rows and digests, block by block, and give staging's rows its own URL."""
        base: dict[int, list[tuple[Value, ...]]] = {}
        known: dict[tuple[Side, int], dict[Key, bytes]] = {}
        places = [table.stored.index(k) for k in table.key]

        def keep() -> None:
            for number, rows in base.items():
                anchor.add_base(table.name, number, rows)
            for (side, number), digests in known.items():
                anchor.add_rows(side, table.name, number, digests)
            base.clear()
            known.clear()
            self.tell(Progress("database", self.rows, None, "rows"))

        for count, values in enumerate(scan_attached(connection, "live", table), start=1):
            staged = self._localised(values)
            if staged != values:
                self._rewrite(connection, table, values, staged)
            for side, own in ((Side.LIVE, values), (Side.STAGING, staged)):
                key = tuple(own[p] for p in places)
                known.setdefault((side, block_of(key)), {})[key] = row_digest(own)
            base.setdefault(block_of(tuple(values[p] for p in places)), []).append(values)
            self.rows += 1
            if count % _ROWS_AT_ONCE == 0:
                keep()
        keep()

    def _localised(self, values: tuple[Value, ...]) -> tuple[Value, ...]:
        return tuple(self._local(v) if isinstance(v, str) and self.live_urls.occurs(v) else v for v in values)

    def _local(self, value: str) -> str:
        return rewritten(value, self.live_urls, self.staging_urls)

    def _rewrite(self, connection: sqlite3.Connection, table: Table, values: tuple[Value, ...],
                 staged: tuple[Value, ...]) -> None:
        row = dict(zip(table.stored, values, strict=True))
        # A row without a key is known by all that it holds.
        which = {k: row[k] for k in table.key or table.stored}
        update_attached(connection, table, which,
                        {c: s for c, v, s in zip(table.stored, values, staged, strict=True) if v != s})
        self.rewritten += 1

    def _unkeyed(self, connection: sqlite3.Connection, table: Table) -> None:
        for values in scan_attached(connection, "live", table):
            self.rows += 1
            staged = self._localised(values)
            if staged != values:
                self._rewrite(connection, table, values, staged)

    # --- files

    def _files(self, anchor: Anchor) -> tuple[int, int]:
        ignore = (*self.profile.ignore, *self.skip)
        entries = list(scan(self.live.files, self.live.apart(), ignore, self.passed.append))
        done, size = 0, 0
        for entry in entries:
            try:
                digest = copy_entry(self.live.files, self.files, entry)
            except FileNotFoundError:
                self.passed.append(Passed(entry.path, "vanished while it was being copied"))
                continue
            except OSError as error:
                raise SiteError(f"The file {entry.path} could not be copied: {error.strerror}.",
                                left="Live was only read; what had been copied was removed.",
                                next_step="Mend it, or leave it out with --skip.") from error
            copy_folders(self.live.files, self.files, entry.path)
            self._keep_file(anchor, replace(entry, digest=digest))
            done, size = done + 1, size + entry.size
            if done % 50 == 0 or done == len(entries):
                self.tell(Progress("files", done, len(entries), "files"))
        return done, size

    def _keep_file(self, anchor: Anchor, entry: Entry) -> None:
        copy = self.files / entry.path
        info = copy.stat(follow_symlinks=False)
        content = None
        if entry.kind == "file" and entry.size <= SMALL_TEXT:
            raw = copy.read_bytes()
            with suppress(UnicodeDecodeError):
                raw.decode()
                content = raw if b"\0" not in raw else None
        anchor.keep_base_file(entry, entry.path, content)
        anchor.keep_file(Side.LIVE, entry.path, entry)
        anchor.keep_file(Side.STAGING, entry.path, replace(entry, stamp=(info.st_mtime_ns, info.st_ctime_ns)))

    # --- what makes it a site of its own

    def _configuration(self) -> None:
        for name in self.live.own:
            (self.target / name).parent.mkdir(parents=True, exist_ok=True)
            shutil.copy2(self.live.home / name, self.target / name)
        inside = self.database.is_relative_to(self.target)
        path = self.database.relative_to(self.target) if inside else self.database
        changes = {"site.url": self.voyage.url, "site.database": f"sqlite:///{path.as_posix()}",
                   "site.files": self.files.relative_to(self.target).as_posix() or "."}
        own = self.live.profile.configuration
        for name in self.live.own:
            if own is not None and name == own.file:
                configuration.rewrite_toml(self.target / name, {own.url: self.voyage.url, own.database: str(path)})
            else:
                configuration.rewrite_toml(self.target / name, changes)

    def _prove(self, anchor: Anchor, tables: dict[str, Table]) -> int:
        """Compare staging, as it lies on disk, with what the snapshot says it must be. Returns the rows compared."""
        database = SqliteDatabase(self.database)
        try:
            for table in tables.values():
                if table.key and next(anchor.moves(Side.STAGING, database, table), None) is not None:
                    raise NostosError(f"Staging's table {table.name} is not equal to live's snapshot.",
                                      left="Live was only read; the copy was removed.",
                                      next_step="Please report this.")
            return sum(database.count(t.name) for t in tables.values() if t.key)
        finally:
            database.close()

    def _guards(self, anchor: Anchor, tables: dict[str, Table]) -> list[Guard]:
        guards = guards_of(self.live, {"voyage": self.voyage.name, "since": self.voyage.since, "live": self.live.name})
        if not guards:
            return []
        database = SqliteDatabase(self.database)
        try:
            with database.writing():
                set_guards(self.live, database, guards)
            # What the guards changed, a trigger's doing included, is staging's own from the start.
            for table in tables.values():
                for move in list(anchor.moves(Side.STAGING, database, table)) if table.key else []:
                    if move.born and table.surrogate:
                        # Live will give out this very key to something else.
                        anchor.pair(Side.STAGING, table.name, move.key[0], f"g{move.key[0]!r}")
                    anchor.set_digest(Side.STAGING, table.name, move.key,
                                      None if move.row is None else anchor.digest(Side.STAGING, table, move.row))
        finally:
            database.close()
        return guards

    def _answers(self) -> None:
        """The copy must be recognised as a site of its own."""
        staging = recognise(self.voyage.staging)
        if staging.database != self.database or staging.url != self.voyage.url:
            raise SiteError("The copy's configuration does not lead to its own database and URL.",
                            left="Live was only read; the copy was removed.",
                            next_step="Check that the site file names `url` and `database` plainly.")


def remove(home: Home, voyage: Voyage) -> list[str]:
    """Remove everything that clone made for a voyage. Returns what was left in place, and why."""
    left = []
    target = Path(voyage.into)
    stamp = target / STAMP
    if target.exists():
        if stamp.is_file() and stamp.read_text().strip() == voyage.id:
            shutil.rmtree(target)
        elif any(target.iterdir()):
            left.append(f"{target}: it does not bear this voyage's stamp")
        else:
            target.rmdir()
    database = Path(voyage.database)
    if not database.is_relative_to(target):
        for ending in ("", "-wal", "-shm", "-journal"):
            Path(f"{database}{ending}").unlink(missing_ok=True)
    home.forget(voyage.name)
    return left

