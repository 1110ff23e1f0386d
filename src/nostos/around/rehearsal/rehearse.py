"""Rehearsing a merge: a fresh copy of live, the very operations that the merge would carry out, and a visit.

Live is only read. The copy answers for live's own address, on this machine, for as long as it is visited; so what is
seen there is what visitors would see.
"""

from __future__ import annotations

import hashlib
import os
import secrets
from collections.abc import Callable, Sequence
from dataclasses import replace
from pathlib import Path
from time import monotonic

import msgspec

from nostos.around.rehearsal.serving import served
from nostos.around.trial.addresses import beside
from nostos.around.trial.camera import browser
from nostos.around.trial.compare import Judged, PageFacts, Verdict
from nostos.around.trial.pictures import Shots, both
from nostos.around.trial.run import Round, judged
from nostos.around.trial.visit import Pace, Visitor
from nostos.core.anchor.open_voyage import Crew
from nostos.core.anchor.rows import SEED
from nostos.core.apply.merge import merge
from nostos.core.clock import now
from nostos.core.clone.exact_copy import BESIDE, NAME, PLACE, ExactCopy, ExactCopying, clear_copy
from nostos.core.errors import MergeRefused, SiteError, VoyageError
from nostos.core.hosts.far_path import AnyPath, FarPath
from nostos.core.plan.operations import PutFile, RemoveFile, SwitchFolder, as_data, laid_down
from nostos.core.plan.prepared import ChoiceOf, PreparedMerge, prepare
from nostos.core.plan.reading_order import is_of_the_whole_site
from nostos.core.plan.selection import Choice
from nostos.core.private_files import make_private, write_private
from nostos.core.progress import Listener, Progress, silent
from nostos.core.records import dataclass
from nostos.core.sites.recognise import Site
from nostos.core.undisturbed import undisturbed
from nostos.core.values.structures import builtins
from nostos.core.voyages.home import Home
from nostos.core.voyages.journal import new_id


@dataclass(frozen=True)
class RehearsalOptions:
    """How a rehearsal visits. command: what serves the copy; none: it is not visited. most: pages. rate: requests a
    second. minutes: that the visits may take. choice: what was chosen, as the command line had it. pictured: is given
    pictures of the pages that look different, if it is there."""

    command: Sequence[str] = ()
    most: int = 100
    rate: float = 8.0
    minutes: float = 60.0
    choice: tuple[tuple[str, ...], ...] = ()
    pictured: Callable[[Sequence[Shots]], None] | None = None


@dataclass(frozen=True)
class Rehearsal:
    """What a merge did on a copy. operations: a digest of what was carried out. pages: those of the copy held against
    live's, the worst first. left: addresses that were not visited. seconds: that the merge took; locked: for how long
    it held rows; copying: what comparing and making the copy took. space: bytes that the merge needs on live's disk.
    holds: what live had gained was there afterwards, and equal. visited: the copy was served."""

    id: str
    voyage: str
    when: str
    operations: str
    items: int
    pages: tuple[Judged, ...]
    left: int
    seconds: float
    locked: float
    copying: float
    space: int
    holds: bool
    visited: bool
    choice: tuple[tuple[str, ...], ...] = ()
    clashes: int = 0
    everywhere: tuple[str, ...] = ()

    @property
    def broke(self) -> bool:
        return not self.holds or any(p.verdict is Verdict.BROKE for p in self.pages)


def digest_of(prepared: PreparedMerge) -> str:
    """What a merge would do, as a digest: two that would do the same have the same one."""
    encoded = msgspec.json.encode([builtins(as_data(o)) for o in prepared.plan.operations], order="sorted")
    return hashlib.blake2b(encoded, digest_size=16).hexdigest()


def rehearse(home: Home, crew: Crew, choice: Choice | ChoiceOf, options: RehearsalOptions, tell: Listener = silent
             ) -> tuple[PreparedMerge, Rehearsal | None]:
    """Carry a merge out on a copy of live, visit the copy, remove it. Gives the merge as it was prepared, and what came
    of it: nothing where there is nothing to merge. Live's rows are compared while they are copied, at one moment.
    Raises NostosError with the copy removed and live as it was."""
    if crew.live.uncopyable:
        raise SiteError(f"{crew.live.uncopyable}.", left="Nothing was made.",
                        next_step="Write it in the configuration as a text; then rehearse.")
    if options.pictured is not None and options.command:
        browser()
    number = new_id()
    inner = Home(home.path / PLACE / number)
    make_private(home.path / PLACE)
    make_private(inner.path)
    folder = _place(crew.live, inner, number)
    with inner.lock(NAME):
        try:
            begun = monotonic()
            copying = ExactCopying.begun(inner, crew.live, folder, tell)
            seed = crew.anchor.fact(SEED)  # what is read to compare live need not be read again, to prove the copy
            prepared = prepare(crew, choice, tell,
                               moment=lambda: copying.moment(secrets.randbits(63) if seed is None else seed))
            if not prepared.acts:
                return prepared, None
            made = copying.finish()
            rehearsal = _on_copy(inner, crew, prepared, options, made, monotonic() - begun, tell)
            write_private(home.path / PLACE / f"{number}.json", msgspec.json.format(msgspec.json.encode(rehearsal)))
            return prepared, rehearsal
        finally:
            with undisturbed():
                clear_copy(inner)


def _place(live: Site, inner: Home, number: str) -> AnyPath:
    """Where the copy lies: beside live, on its machine and its disk, where whoever owns it can reach it; else in the
    private home."""
    if isinstance(live.home, FarPath):
        return live.home.resolve().parent / f"{BESIDE}{number}"
    above = Path(str(live.home)).resolve().parent
    return above / f"{BESIDE}{number}" if os.access(above, os.W_OK | os.X_OK) else inner.path / "copy"


def _on_copy(inner: Home, crew: Crew, prepared: PreparedMerge, options: RehearsalOptions, made: ExactCopy,
             copying: float, tell: Listener) -> Rehearsal:
    copy = replace(made.site, profile=crew.live.profile, commands=None, further=crew.live.further)
    on_copy = replace(crew, live=copy)
    make_private(inner.path / "journals")
    result = merge(inner, on_copy, replace(prepared, journals=inner.path / "journals"), tell)
    pages, left, everywhere = _visited(crew, on_copy, prepared, options, made, tell) if options.command else ((), 0, ())
    return Rehearsal(inner.path.name, crew.voyage.name, now(), digest_of(prepared),
                     len(prepared.plan.selection.chosen), pages,
                     left, result.seconds, result.locked, copying, _space(prepared),
                     all(line.holds for line in result.ledger), bool(options.command), options.choice,
                     len(result.clashes), everywhere)


def _space(prepared: PreparedMerge) -> int:
    """Bytes that a merge lays down on live's disk before anything is replaced."""
    return sum(map(laid_down, prepared.plan.of(PutFile, RemoveFile, SwitchFolder)))


def _visited(crew: Crew, on_copy: Crew, prepared: PreparedMerge, options: RehearsalOptions, made: ExactCopy,
             tell: Listener) -> tuple[tuple[Judged, ...], int, tuple[str, ...]]:
    """Visit the copy beside live."""
    known = beside(crew.live, on_copy.live, prepared, options.most, crew.anchor.fact("network_site"))
    with served(on_copy.live, options.command, crew.live) as address:
        further = dict(zip(crew.live.further, crew.live.further, strict=True))
        live = Visitor(crew.live.url, Pace(options.rate), further=further)
        copy = Visitor(crew.live.url, Pace(options.rate), at=address, further=further)
        try:
            tell(Progress("visiting", 0, None, "pages"))
            for visitor, what in ((live, "Live"), (copy, "The copy")):
                first = visitor.page("/")
                if first.failed:
                    raise SiteError(f"{what} {first.failed}, so they cannot be held against one another.",
                                    left="Live was only read; the copy was removed.",
                                    next_step="See that live answers from here." if what == "Live" else
                                    "See what the command of [serve] says, or name another.")
            seen, left = Round(live, copy, known, options.most, options.minutes, tell).run()
            seen = replace(seen, wide=any(is_of_the_whole_site(i, crew.live.profile)
                                          for i in prepared.plan.selection.items))
            verdicts = judged(replace(on_copy, live=crew.live, staging=on_copy.live), seen, left)
            if options.pictured is not None:
                options.pictured(both({p.path: known.get(p.path, PageFacts()) for p in verdicts.pages}, live, copy,
                                      options.minutes, tell))
        finally:
            live.close()
            copy.close()
    return verdicts.pages, left, verdicts.everywhere


def rehearsed(home: Home, number: str, voyage: str) -> Rehearsal:
    """A rehearsal that was made. Raises VoyageError when there is none of this id, or it was of another voyage."""
    folder = home.path / PLACE
    names = sorted(p.stem for p in folder.glob("*.json"))
    if number not in names:
        raise VoyageError(f"There is no rehearsal {number}.", left="Nothing was done.",
                          next_step=f"There are: {', '.join(names[-5:])}." if names else
                          f"`nostos rehearse {voyage}` makes one.")
    try:
        rehearsal = msgspec.json.decode((folder / f"{number}.json").read_bytes(), type=Rehearsal)
    except (msgspec.DecodeError, msgspec.ValidationError) as error:
        raise VoyageError(f"The rehearsal {number} cannot be read.", left="Nothing was done.",
                          next_step=f"`nostos rehearse {voyage}` makes a new one.") from error
    if rehearsal.voyage != voyage:
        raise VoyageError(f"The rehearsal {number} was of voyage {rehearsal.voyage}.", left="Nothing was done.",
                          next_step=f"`nostos rehearse {voyage}` makes one of this.")
    return rehearsal


def check_same(rehearsal: Rehearsal, prepared: PreparedMerge) -> None:
    """Raise MergeRefused where what a merge would do is not what was rehearsed."""
    if digest_of(prepared) != rehearsal.operations:
        raise MergeRefused(f"What would be done is not what was rehearsed as {rehearsal.id}.", left="Nothing was done.",
                           next_step=f"Live or staging has moved where it matters, or something else is chosen. "
                                     f"`nostos rehearse {rehearsal.voyage}` tries it again.")

