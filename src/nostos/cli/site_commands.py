"""What verbs that change a site have in common: the commands that its site file names around them."""

from __future__ import annotations

import argparse
import shlex
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import field
from typing import TYPE_CHECKING

from nostos.core.patterns import clean
from nostos.core.records import dataclass

if TYPE_CHECKING:
    from nostos.cli.environment import Environment
    from nostos.core.hosts.far_path import AnyPath
    from nostos.core.sites.ran import RanCommand
    from nostos.core.sites.recognise import Site
    from nostos.core.voyages.history import Record


@dataclass
class Around:
    """The commands that were run. distrusted: some were not, for others may write to their file. failed: one of them
    failed, or was not run."""

    ran: list[RanCommand] = field(default_factory=list)
    distrusted: bool = False

    @property
    def failed(self) -> bool:
        return self.distrusted or any(c.failed for c in self.ran)


def arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("--no-commands", action="store_true",
                        help="run none of the commands that the site file names before and after this")


def announce(args: argparse.Namespace, env: Environment, site: Site, verb: str) -> None:
    """Say what would be run."""
    if site.commands is None or args.no_commands or env.json:
        return
    for when in ("before", "after"):
        for command in site.commands.of(when, verb):
            env.out.print(f"Would be run {when}: {shlex.join(command)}", markup=False, highlight=False, soft_wrap=True)


@contextmanager
def commands(args: argparse.Namespace, env: Environment, site: Site, verb: str, record: Record,
             folder: AnyPath | None = None) -> Iterator[Around]:
    """Run the site file's commands before and after what is done in the block. folder: where; None: in the site's.
    Raises MergeRefused when one of those before fails: then nothing was done."""
    from nostos.core.errors import MergeRefused
    from nostos.core.sites.commands import AFTER, BEFORE, run_commands

    made = Around()
    if site.commands is None or args.no_commands:
        yield made
        return
    place = folder or (site.files.at if site.has_files else site.home)
    record.commands = made.ran
    for ran in run_commands(site.commands, BEFORE, verb, place, site.name):
        made.ran.append(ran)
        if ran.failed:
            raise MergeRefused(f"A command before it failed: {_said(ran)}.",
                               next_step="Mend it, or run it again with --no-commands.")
    yield made
    try:
        for ran in run_commands(site.commands, AFTER, verb, place, site.name):
            made.ran.append(ran)
    except MergeRefused as error:
        made.distrusted = True
        env.err.print(f"{error.what} {error.next_step}", markup=False, highlight=False, soft_wrap=True)
    for ran in made.ran:
        if ran.failed:
            env.err.print(f"It is done; a command {ran.when} it failed: {_said(ran)}.", markup=False, highlight=False,
                          soft_wrap=True)


def _said(ran: RanCommand) -> str:
    """What became of a command that failed."""
    last = ran.said.strip().splitlines()[-1:] or [""]
    how = ran.why or f"exit status {ran.status}"
    return clean(f"{shlex.join(ran.arguments)} ({how}{f': {last[0][:200]}' if last[0] else ''})")
