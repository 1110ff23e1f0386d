"""`nostos history [VOYAGE]`"""

from __future__ import annotations

import argparse

from nostos.cli.environment import Environment, ExitStatus


def arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("voyage", metavar="VOYAGE", nargs="?", help="one voyage (left out: all, retired ones too)")
    parser.epilog = "Example:\n  nostos history autumn"


def run(args: argparse.Namespace, env: Environment) -> ExitStatus:
    from nostos.core.errors import VoyageError
    from nostos.core.voyages.history import entries
    from nostos.core.voyages.home import Home
    from nostos.show.output import write_json
    from nostos.show.voyages import history

    home = Home(env.home)
    records = entries(home, args.voyage)
    if args.voyage and not records and args.voyage not in home.names():
        raise VoyageError(f"No voyage was ever named {args.voyage}.", next_step="`nostos history` lists all.")
    if env.json:
        write_json(env.stdout, records)
    else:
        history(env.out, records)
    return ExitStatus.DONE
