"""`nostos versions [VOYAGE]`"""

from __future__ import annotations

import argparse

from nostos.cli.environment import Environment, ExitStatus


def arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("voyage", metavar="VOYAGE", nargs="?", help="left out where there is just one")
    parser.add_argument("--changed", action="store_true", help="only what is not the same everywhere")
    parser.epilog = "Examples:\n  nostos versions autumn\n  nostos versions autumn --changed"


def run(args: argparse.Namespace, env: Environment) -> ExitStatus:
    from nostos.around.versions import versions
    from nostos.core.anchor.open_voyage import opened
    from nostos.core.voyages.home import Home
    from nostos.show import parts
    from nostos.show.output import write_json
    from nostos.show.progress import shown

    home = Home(env.home)
    voyage = home.only(args.voyage)
    with opened(home, voyage) as crew, shown(env.err) as tell:
        shown_parts = [p for p in versions(crew, tell) if p.moved or not args.changed]
    if env.json:
        write_json(env.stdout, shown_parts)
    else:
        parts.versions(env.out, shown_parts)
    return ExitStatus.DONE
