"""`nostos status [VOYAGE]`"""

from __future__ import annotations

import argparse

from nostos.cli.environment import Environment, ExitStatus


def arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("voyage", metavar="VOYAGE", nargs="?", help="one voyage (left out: all)")
    parser.epilog = "Example:\n  nostos status\n\nExit status 1: a voyage has clashes, or cannot be used."


def run(args: argparse.Namespace, env: Environment) -> ExitStatus:
    from nostos.around.housekeeping import keep_days, space
    from nostos.around.status import status
    from nostos.core.voyages.home import Home
    from nostos.show.output import write_json
    from nostos.show.voyages import house, voyages

    home = Home(env.home)
    statuses = status(home, args.voyage)
    if env.json:
        write_json(env.stdout, statuses)
    else:
        voyages(env.out, statuses)
        if not args.voyage:
            house(env.out, space(home), keep_days(home))
    return ExitStatus.LOOK if any(s.trouble or s.standings.get("clash") for s in statuses) else ExitStatus.DONE
