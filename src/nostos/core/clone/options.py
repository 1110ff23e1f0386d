"""What a clone is asked for, and what it comes to."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import field

from nostos.core.clone.other_machines import OtherMachine
from nostos.core.files.tree import SkippedFile
from nostos.core.records import dataclass
from nostos.core.sites.guards import Guard
from nostos.core.voyages.home import Voyage


@dataclass(frozen=True)
class CloneOptions:
    """How a copy is made.

    database: staging's own, as a URL (or a path, for SQLite); prefix: what its tables' names begin with. Both left
    out: for SQLite as live's file lies to live's; on a server a new database beside live's, if the rights allow it.
    skip: patterns of files to leave out. mask: put made-up values in the place of personal data. gate: what the copy's
    pages ask for, as `guards.gate` makes it. follow_links: links out of the tree that count as the folders that they
    lead to. skip_rows: patterns of tables whose rows the copy does without. over: what the folder holds is set aside,
    and comes back when the copy is removed. of_site: of an installation of several sites, the one that the voyage is
    of, by its number, address or path; the rest is copied, too, and goes home only when it is named. addresses: further
    ones that live answers at, and what each is in the copy.
    """

    database: str | None = None
    prefix: str | None = None
    skip: Sequence[str] = ()
    mask: bool = False
    gate: str = ""
    follow_links: Sequence[str] = ()
    skip_rows: Sequence[str] = ()
    over: bool = False
    of_site: str = ""
    addresses: Mapping[str, str] = field(default_factory=dict)

    @property
    def names_database(self) -> bool:
        """Whether it was said where staging's tables go."""
        return self.database is not None or self.prefix is not None


PLAIN = CloneOptions()


@dataclass(frozen=True)
class Leftover:
    """Where the copy still speaks of live, for it is written there in a way that is not known: a file, or a column of a
    table. count: in how many rows. said: the words, from one of them. acts: it names live's database, so that the copy
    would act on live."""

    place: str
    count: int
    said: str
    acts: bool = False


@dataclass(frozen=True)
class CloneResult:
    """What clone made. rewritten: rows in which live's URL became staging's. proved: rows found equal afterwards.

    masked: how many values of which columns were made up (None: that was not asked for). left: where live is still
    spoken of.
    """

    voyage: Voyage
    tables: int
    rows: int
    files: int
    file_bytes: int
    rewritten: int
    proved: int
    guards: tuple[Guard, ...]
    passed: tuple[SkippedFile, ...]
    unkeyed: tuple[str, ...]
    seconds: float
    masked: dict[str, int] | None = None
    left: tuple[Leftover, ...] = ()
    unasked: str | None = None  # why the copy could not be asked about itself; empty: it was; None: nobody knows how
    addresses: tuple[tuple[str, str], ...] = ()  # further ones, live's and the copy's
    elsewhere: tuple[str, ...] = ()  # sites of the installation that answer on live only, at hosts of their own
    machines: tuple[OtherMachine, ...] = ()  # others that its settings files name
    program: str = ""  # what answers for the system: "php", "python"; empty: not known
    inside: str = ""  # where the copy's tree is, in its folder
    private: tuple[str, ...] = ()  # what in the copy's tree nobody is to fetch: its settings, its database
