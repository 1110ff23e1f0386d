"""Opening a voyage: both sites and the anchor."""

from __future__ import annotations

import hashlib
import os
import re
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import replace
from pathlib import Path

from nostos.core.anchor.copy_words import further, speak
from nostos.core.anchor.names import Side
from nostos.core.anchor.store import Anchor
from nostos.core.database.protocol import Database
from nostos.core.errors import RecoverNeeded, SiteError, VoyageError
from nostos.core.hosts.far_path import written
from nostos.core.learning.findings import Layer, as_data, learned, of_data, read_layer
from nostos.core.learning.learn import learn, with_answers
from nostos.core.profiles.loader import extended
from nostos.core.records import dataclass
from nostos.core.sites.addresses import forms_of
from nostos.core.sites.fences import fenced
from nostos.core.sites.left_out import without
from nostos.core.sites.recognise import Site, recognise, recognised_from
from nostos.core.voyages.home import Home, Voyage, VoyageState, boot
from nostos.core.voyages.journal import unfinished


@dataclass(frozen=True)
class Crew:
    """An open voyage: both sites and the anchor. answers: the file of what was said of live's meaning."""

    voyage: Voyage
    live: Site
    staging: Site
    anchor: Anchor
    answers: Path = Path("/nonexistent")

    def layers(self, live_db: Database, staging_db: Database | None = None) -> tuple[Layer, ...]:
        """What is known of the site's meaning beside its profile: what was learned when it was cloned (or is now, of a
        voyage that is older than learning), what staging's new tables say, and what was said."""
        fact = self.anchor.fact("learned")
        if fact is None:
            tables = live_db.tables()
            fact = as_data(learn(live_db, tables, self.live.full_profile(tables),
                                 address=forms_of(self.live).pieces()))
            with self.anchor.changing():
                self.anchor.set_fact("learned", fact)
        answers = read_layer(self.answers)
        administrator = Layer("said", visitors=(*answers.visitors,
                                                *(self.live.adds.visitors if self.live.adds else ())),
                     editors=(*answers.editors, *(self.live.adds.editors if self.live.adds else ())),
                     references=answers.references, numbers=answers.numbers)
        known_then = with_answers(of_data(fact), administrator)
        staging = staging_db.tables() if staging_db is not None else {}
        # What staging has dropped may hold what live has written since.
        known = [known_then if staging_db is None else replace(known_then, made=tuple(
            t for t in known_then.made if t in staging))]
        before = self.anchor.tables(Side.LIVE)
        new = staging.keys() - before.keys()
        if new and staging_db is not None:
            layer = learn(staging_db, staging, self.live.full_profile(staging), only=new)
            known.append(with_answers(layer, administrator))
        grown = {n: {*t.names} - {*before[n].names} for n, t in staging.items() if n in before}
        if staging_db is not None and any(grown.values()):
            layer = learn(staging_db, staging, self.live.full_profile(staging), only={n for n in grown if grown[n]})
            known.append(with_answers(learned(tuple(
                f for f in layer.findings if f.place.column in grown[f.place.table])), administrator))
        return (*known, answers)


@contextmanager
def opened(home: Home, voyage: Voyage, recovering: bool = False) -> Iterator[Crew]:
    """A ready voyage with both of its sites. Raises VoyageError when one has vanished, RecoverNeeded when an operation
    was interrupted (unless `recovering`)."""
    if voyage.state is not VoyageState.READY:
        raise VoyageError(f"The clone of voyage {voyage.name} did not finish.",
                          next_step=f"`nostos retire {voyage.name}` cleans it up; then clone again.")
    if not recovering and unfinished(home.folder(voyage.name)):
        with home.lock(voyage.name):  # or another nostos is in the middle of it this very moment
            if unfinished(home.folder(voyage.name)):
                raise RecoverNeeded(f"An operation of voyage {voyage.name} was interrupted.",
                                    left="Nothing was done now.",
                                    next_step=f"Run `nostos recover {voyage.name}`: it finishes it or takes it back.")
    voyage = _flush(home, voyage)
    sites = []
    for what, where in (("live", voyage.live), ("staging", voyage.staging)):
        try:
            sites.append(recognise(where))
        except SiteError as error:
            gone = not written(where).exists()
            raise VoyageError(
                f"The {what} site of voyage {voyage.name} has vanished: {error.what}" if gone else
                f"The {what} site of voyage {voyage.name} cannot be used: {error.what}",
                next_step="Bring it back, or retire the voyage." if what == "staging" or gone else error.next_step,
            ) from error
    live, staging = sites
    if live.profile.entities:  # each side knows its own fields, and what is new on one must be understood on both
        both = extended(live.profile, staging.profile)
        live, staging = replace(live, profile=both), replace(staging, profile=both)
    if live.database.same_as(staging.database) and not live.database.none:
        raise VoyageError(f"Live and staging of voyage {voyage.name} use the same database, {live.database.shown}.",
                          next_step="Put staging's own database back into its configuration.")
    anchor = Anchor(home.folder(voyage.name) / "anchor.db")
    live_addresses, here = further(anchor)
    live, staging = replace(live, further=live_addresses), replace(staging, further=here)
    speak(anchor, live, staging)
    skipped = anchor.fact("skip_rows") or ()
    live, staging = without(live, skipped), without(staging, skipped)
    live.files.followed = {**live.files.followed, **(anchor.fact("followed") or {})}
    try:
        with fenced(live, staging):
            yield Crew(voyage, live, staging, anchor, answers_of(home, live))
    finally:
        anchor.close()


def _flush(home: Home, voyage: Voyage) -> Voyage:
    """Make sure that a new copy is on the disk: else what a power cut took of it would count as staging's work."""
    if not voyage.unflushed:
        return voyage
    if voyage.unflushed != boot():
        raise VoyageError(f"The machine went down before staging's copy of voyage {voyage.name} was on the disk.",
                          next_step=f"`nostos refresh {voyage.name} --afresh` makes it anew.")
    os.sync()
    voyage = replace(voyage, unflushed="")
    home.write(voyage)
    return voyage


def answers_of(home: Home, site: Site) -> Path:
    """Where it is kept what was said of a site's meaning."""
    place = recognised_from(site)
    name = re.sub(r"[^A-Za-z0-9]+", "-", site.name).strip("-").lower()[:40]
    return home.path / "answers" / f"{name}-{hashlib.sha256(place.encode()).hexdigest()[:8]}.toml"
