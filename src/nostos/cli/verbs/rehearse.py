"""`nostos rehearse [VOYAGE]`"""

from __future__ import annotations

import argparse
from pathlib import Path
from typing import TYPE_CHECKING

from nostos.cli import choosing, visiting
from nostos.cli.environment import Environment, ExitStatus

if TYPE_CHECKING:
    from nostos.around.trial.pictures import Shots


def arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("voyage", metavar="VOYAGE", nargs="?", help="left out where there is just one")
    choosing.merge_arguments(parser)
    visiting.arguments(parser, 100)
    parser.add_argument("--html", metavar="FILE", help="also write it to a page for others to read")
    parser.add_argument("--pictures", action="store_true",
                        help="put pictures of the pages that look different on that page (needs Chromium)")
    parser.add_argument("--no-visit", action="store_true", help="carry the merge out on the copy, and visit nothing")
    parser.add_argument("--no-commands", action="store_true",
                        help="do not run the site file's [serve]; then nothing is visited")
    parser.epilog = ("Examples:\n  nostos rehearse autumn\n  nostos rehearse autumn --take 'page/*'\n"
                     "  nostos merge autumn --as-rehearsed ID\n\n"
                     "Live is only read. Exit status 1: something broke on the copy.")


def run(args: argparse.Namespace, env: Environment) -> ExitStatus:
    from nostos.around.rehearsal.rehearse import RehearsalOptions, rehearse
    from nostos.around.rehearsal.serving import command_of
    from nostos.around.trial.compare import count
    from nostos.core.anchor.open_voyage import opened
    from nostos.core.voyages.history import recorded
    from nostos.core.voyages.home import Home
    from nostos.show import merging, rehearsing
    from nostos.show.output import write_json
    from nostos.show.progress import shown

    visiting.check(args)
    visiting.check_pictures(args)
    home = Home(env.home)
    voyage = home.only(args.voyage)
    with home.lock(voyage.name), opened(home, voyage) as crew:
        command = () if args.no_visit or args.no_commands else command_of(crew.live)
        shots: list[Shots] = []
        options = RehearsalOptions(command, args.most, args.rate, args.minutes, choosing.words(args),
                                   shots.extend if args.pictures else None)
        with recorded(home, "rehearse", voyage.name, voyage.live_name) as record, shown(env.err) as tell:
            prepared, rehearsal = rehearse(home, crew, choosing.chosen(args, voyage), options, tell)
            if rehearsal is None:
                record.result = "nothing to bring home"
            else:
                record.counts = {"items": rehearsal.items, "pages": len(rehearsal.pages),
                                 **{str(v): n for v, n in count(rehearsal.pages).items()}}
                record.note_route(voyage.live_url, f"a copy of it, {rehearsal.id}")
    if args.html and rehearsal is not None:
        from nostos.show.html import write_rehearsal

        write_rehearsal(Path(args.html), voyage, rehearsal, shots)
        env.err.print(f"Written to {args.html}.")
    if env.json:
        write_json(env.stdout, {"rehearsal": rehearsal})
    elif rehearsal is None:
        merging.plan(env.out, prepared, voyage.live_name)
        env.out.print("There is nothing to bring home, so there is nothing to rehearse.")
    else:
        rehearsing.rehearsal(env.out, rehearsal, voyage.live_name, bool(args.selection))
    return ExitStatus.LOOK if rehearsal is not None and rehearsal.broke else ExitStatus.DONE
