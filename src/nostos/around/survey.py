"""Looking a site over before anything is touched. Everything here only reads."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from enum import StrEnum

from nostos.around.version_heads import VersionedPart, parts
from nostos.core.database.protocol import Database, explaining
from nostos.core.database.schema import Table
from nostos.core.files.tree import SkippedFile
from nostos.core.files.trees import tree_at
from nostos.core.learning.findings import Certainty, Layer
from nostos.core.learning.learn import learn, with_answers
from nostos.core.learning.sources import Sources
from nostos.core.patterns import matches
from nostos.core.profiles.compared import compared_tables
from nostos.core.profiles.from_schema import NO_PROFILE
from nostos.core.profiles.model import Profile, ignored
from nostos.core.profiles.network import kind_in, sites
from nostos.core.progress import Listener, Progress, silent
from nostos.core.records import dataclass
from nostos.core.sites.effective_profile import effective_profile
from nostos.core.sites.left_out import could_be
from nostos.core.sites.recognise import Site
from nostos.core.values import structures
from nostos.core.values.php import looks_serialised


class Level(StrEnum):
    """How much a finding matters: something will go wrong; something to know; nothing to do."""

    OBSTACLE = "obstacle"
    NOTICE = "notice"


class Responsible(StrEnum):
    """Whose job a remedy is."""

    YOU = "you"
    HOST = "the host"
    AUTHOR = "the extension's author"


@dataclass(frozen=True)
class SurveyFinding:
    """One thing that was found: what it is, why it matters, what to do and whose job that is."""

    level: Level
    what: str
    why: str
    remedy: str
    whose: Responsible


@dataclass(frozen=True)
class TableFacts:
    """A table: how many rows, which key, and the kinds of item that its rows are."""

    name: str
    rows: int
    key: tuple[str, ...]
    kinds: tuple[str, ...]


@dataclass(frozen=True)
class Survey:
    """What a site is and what was found. Sizes in bytes."""

    name: str
    url: str
    system: str
    engine: str
    database: str
    database_bytes: int
    files: str
    file_count: int
    file_bytes: int
    free_bytes: int
    tables: tuple[TableFacts, ...]
    parts: tuple[VersionedPart, ...]
    findings: tuple[SurveyFinding, ...]
    layers: tuple[tuple[str, int, int, int], ...] = ()  # who told how many references, kinds and parts, policies

    @property
    def obstacles(self) -> list[SurveyFinding]:
        return [f for f in self.findings if f.level is Level.OBSTACLE]


def survey(site: Site, tell: Listener = silent) -> Survey:
    """Look a site over. Raises SiteError when its database cannot be read at all."""
    database = site.open(readonly=True)
    try:
        with explaining(database), database.reading():
            tables = database.tables()
            tell(Progress("learning", 0, None, "tables"))
            known = learn(database, tables, site.full_profile(tables))
            known = with_answers(known, site.adds) if site.adds is not None else known
            profile = effective_profile(site, tables)
            tell(Progress("reading tables", 0, len(tables), "tables"))
            facts = tuple(_facts(database, known.over(profile), t) for t in tables.values())
            version = database.version()
            database_bytes = sum(size for _, size in database.sizes().values())
            findings = [*_learned(known), *_keys(tables, profile), *_references(database, tables),
                        *_values(database, tables, profile),
                        *_engine(database), *_profile(profile, tables), *_network(database, profile, tables),
                        *_left_out(database, tables, known.over(profile))]
    finally:
        database.close()
    passed: list[SkippedFile] = []
    tell(Progress("reading files", 0, None, "files"))
    entries = list(site.files.scan(site.foreign_paths(), ignored(profile), passed.append))
    size = sum(e.size for e in entries)
    free = tree_at(site.home).free()
    database_size = site.database.file.stat().st_size if site.database.file else database_bytes
    findings += [*_rights(site), *_passed(passed), *_space(free, size + 2 * database_size)]
    files = site.files.where if site.has_files else "no files"
    return Survey(site.name, site.url, profile.title, version, site.database.shown, database_size, files,
                  len(entries), size, free, facts, tuple(parts(profile, site.files)),
                  tuple(sorted(findings, key=lambda f: f.level is not Level.OBSTACLE)),
                  tuple(counted for counted in Sources(site.profile, site.adds, (known,)).counts() if any(counted[1:])))


def _left_out(database: Database, tables: Mapping[str, Table], profile: Profile) -> Iterator[SurveyFinding]:
    """Rows that a copy may do without, and what that would save."""
    sizes = could_be(tables, profile, database.sizes())
    if sizes:
        some = ", ".join(f"{name} ({size >> 20} MB)" for name, size in sizes[:6])
        yield SurveyFinding(
            Level.NOTICE, f"Big, and nothing points at their rows: {some}.",
            "If that is a log or statistics, a copy may do without them.",
            f"clone --skip-rows {sizes[0][0]} leaves the rows out; they are never compared then.", Responsible.YOU)


def _learned(known: Layer) -> Iterator[SurveyFinding]:
    """What no profile says of the site, and what follows from it."""
    sure = [f for f in known.findings if f.certainty is Certainty.SURE]
    perhaps = [f for f in known.findings if f.certainty is Certainty.OPEN and f.bits > 0]  # more likely than not
    if known.visitors:
        some = ", ".join(known.visitors[:6]) + (" and others" if len(known.visitors) > 6 else "")
        yield SurveyFinding(
            Level.NOTICE, f"No profile names {some}; they count as visitors'.",
            "What staging has in them is taken for test data and stays there until it is named.",
            "Nothing, if that is so. `nostos learn` shows why; a file of answers can say otherwise.", Responsible.YOU)
    if known.accounts:
        yield SurveyFinding(
            Level.NOTICE, f"No profile names {', '.join(known.accounts)}; their rows are people who may log in.",
            "An account that staging made or changed goes home only when it is named, by any system.",
            "Nothing, if that is so.", Responsible.YOU)
    if known.made:
        some = ", ".join(known.made[:6]) + (" and others" if len(known.made) > 6 else "")
        yield SurveyFinding(
            Level.NOTICE, f"Made from other rows, column by column: {some}.",
            "What follows from other rows is cloned, but not compared, and nothing of it goes home.",
            "Let the site make it anew after a merge, if it does not by itself. A file of answers can say otherwise.",
            Responsible.YOU)
    if sure or perhaps:
        yield SurveyFinding(
            Level.NOTICE, f"{len(sure)} places that no profile names point at rows of other tables, and "
            f"{len(perhaps)} may.", "The first are followed as references are. Of the others you are asked, once, when "
            "a number of staging's stands there.", "Look at them with `nostos learn`.", Responsible.YOU)


def _facts(database: Database, profile: Profile, table: Table) -> TableFacts:
    kinds = [(k.name if "{" not in k.name else f"each {k.name.strip('{}')} under its own name")
             + (" (visitors')" if profile.is_visitors(k.name) else "")
             for k in profile.kinds if k.table == table.name]
    children = [c for c in profile.children if c.table == table.name]
    if children:
        kinds = [k for k in kinds if not any(c.natural for c in children)] + [f"part of {c.owner}" for c in children]
    if matches(table.name, (*profile.volatile, *profile.made)):
        kinds = ["never compared"]
    return TableFacts(table.name, database.count(table.name), table.key, tuple(kinds))


def _keys(tables: dict[str, Table], profile: Profile) -> Iterator[SurveyFinding]:
    for name, table in tables.items():
        if not table.key and name not in profile.volatile:
            yield SurveyFinding(
                Level.OBSTACLE, f"The table {name} has no key.",
                "Its rows cannot be told apart. It is cloned, but it is not compared, and nothing in it can go home.",
                f"Give {name} a primary key, or a unique index over columns that are never empty.", Responsible.AUTHOR)


def _references(database: Database, tables: dict[str, Table]) -> Iterator[SurveyFinding]:
    for name, table in tables.items():
        unknown = sorted({fk.target for fk in table.foreign_keys if fk.target not in tables})
        if unknown:
            yield SurveyFinding(Level.NOTICE, f"The table {name} refers to {', '.join(unknown)}, which is not there.",
                          "Such a reference is carried as a plain value.", "Nothing, or drop the reference.",
                          Responsible.AUTHOR)
            continue
        broken = list(database.broken_references(table))
        if broken:
            column = broken[0][1]
            yield SurveyFinding(
                Level.NOTICE,
                f"{len(broken)} rows of {name} point at nothing ({column.table}.{column.column} to {column.target}).",
                "They were broken before Nostos. Merges leave them as they are, and break no others.",
                "Mend or remove those rows on live when you can.", Responsible.YOU)


def _values(database: Database, tables: dict[str, Table], profile: Profile) -> Iterator[SurveyFinding]:
    for name, table in compared_tables(profile, tables).items():
        structured = [c for c in table.stored if any(
            p.table == name and p.column == c and p.policy.keyed and not p.path
            for p in profile.policies)]
        broken = 0
        for values in database.scan(table, table.stored) if structured else ():
            row = dict(zip(table.stored, values, strict=True))
            for column in structured:
                value = row[column]
                if not isinstance(value, str):
                    continue
                if looks_serialised(value):
                    broken += structures.read_serialised(value) is None
                elif value[:1] in ("{", "[") and profile.policy(name, row, column).keyed:
                    broken += structures.read(value) is None
        if broken:
            yield SurveyFinding(Level.NOTICE, f"{broken} structured values in {name} cannot be read as structures.",
                          "Each is compared and carried as one piece of text, and never changed inside.",
                          "Nothing, unless the site misreads them too.", Responsible.AUTHOR)


def _engine(database: Database) -> Iterator[SurveyFinding]:
    for c in database.warnings():
        yield SurveyFinding(Level.OBSTACLE if c.obstacle else Level.NOTICE, c.what, c.why, c.remedy,
                      Responsible.HOST if c.host else Responsible.YOU)


def _profile(profile: Profile, tables: dict[str, Table]) -> Iterator[SurveyFinding]:
    for c in profile.cautions:
        if set(c.tables) <= set(tables):
            yield SurveyFinding(Level.NOTICE, c.what, c.why, c.remedy, Responsible.YOU)
    if profile.name == NO_PROFILE.name and tables:
        yield SurveyFinding(
            Level.NOTICE, "No profile fits this site.",
            "Every table is a kind of its own. Nothing is known of settings, so a staging copy gets no guards: "
            "it may send mail and run jobs like the live site.",
            "Switch off mail and jobs in the copy by hand, or write a profile (docs/profiles.md).", Responsible.YOU)


def _network(database: Database, profile: Profile, tables: dict[str, Table]) -> Iterator[SurveyFinding]:
    network = profile.network
    members = sites(network, database, tables) if network is not None else {}
    if network is not None and members:
        every = ", ".join(f"{n} {address}" for n, address in sorted(members.items())[:20])
        other = next((n for n in sorted(members) if n != network.first), network.first)
        yield SurveyFinding(
            Level.NOTICE, f"It is an installation of {len(members)} sites: {every}.",
            f"What is another's than the first one's has its number in its kind, such as {kind_in('page', other, 1)}. "
            "Extensions, themes, users and the installation's own settings are shared by all.",
            f"clone --site {other} makes a voyage of one of them: then what is another's, or shared, goes home only "
            "when it is named.", Responsible.YOU)


def _rights(site: Site) -> Iterator[SurveyFinding]:
    file = site.database.file
    places = [(site.files, "")] if site.has_files else []
    places += [(tree_at(file.parent), ""), (tree_at(file.parent), file.name)] if file else []
    for path in sorted({f"{tree.where}/{name}".rstrip("/") for tree, name in places if not tree.may_write(name)}):
        yield SurveyFinding(Level.OBSTACLE, f"You may not write to {path}.",
                          "Cloning works, but nothing can be merged home.",
                          "Run Nostos as the user that the site belongs to.", Responsible.HOST)
    root = site.files if site.has_files else tree_at(site.home)
    owner = root.owner("")
    if not root.may_give(owner):
        yield SurveyFinding(
            Level.NOTICE,
            f"{root.where} belongs to user {owner.user}, group {owner.group}, and you may not give files to them.",
            "What a merge writes there will belong to you: the site may then be unable to update or change it.",
            "Run it as the user that the site belongs to, or as root.", Responsible.HOST)


def _passed(passed: list[SkippedFile]) -> Iterator[SurveyFinding]:
    for entry in passed[:20]:
        unreadable = "cannot be read" in entry.reason
        yield SurveyFinding(
            Level.OBSTACLE if unreadable else Level.NOTICE, f"{entry.path} {entry.reason}.",
            "It is not cloned and not compared.",
            "Give your user the right to read it." if unreadable else "Nothing, if staging can do without it.",
            Responsible.HOST if unreadable else Responsible.YOU)
    if len(passed) > 20:
        yield SurveyFinding(Level.NOTICE, f"{len(passed) - 20} more files are passed over for such reasons.",
                      "They are not cloned and not compared.", "Mend the first ones, then survey again.",
                      Responsible.YOU)


def _space(free: int, need: int) -> Iterator[SurveyFinding]:
    if free < need:
        yield SurveyFinding(Level.OBSTACLE,
                            f"The disk has {free >> 20} MB free, and a clone needs about {need >> 20} MB.",
                      "A clone on this disk would be refused.", "Free some space, or clone to another disk.",
                      Responsible.HOST)
