"""`nostos tide SITE`"""

from __future__ import annotations

import argparse
from pathlib import Path

from nostos.cli.environment import Environment, ExitStatus


def arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("site", metavar="SITE", help="the site's folder, or its site file")
    parser.add_argument("--weeks", metavar="N", type=int, default=12, help="how far back to look (12)")
    parser.add_argument("--hours", metavar="N", type=int, default=2, help="how long a quiet window is to be (2)")
    parser.add_argument("--zone", metavar="NAME", help="a time zone, such as Europe/Lisbon (left out: the site's own)")
    parser.add_argument("--figure", metavar="FILE", help="also draw it: a file that ends in .png or .svg")
    parser.epilog = "Examples:\n  nostos tide /srv/www/site\n  nostos tide /srv/www/site --hours 3 --figure tide.svg"


def run(args: argparse.Namespace, env: Environment) -> ExitStatus:
    from nostos.around.tide import tide
    from nostos.core.sites.recognise import recognise
    from nostos.show import tides
    from nostos.show.output import write_json
    from nostos.show.progress import shown

    with shown(env.err) as tell:
        result = tide(recognise(args.site), args.weeks, args.hours, args.zone, tell=tell)
    if args.figure:
        tides.figure(result, Path(args.figure).expanduser())
    if env.json:
        write_json(env.stdout, result)
    else:
        tides.tide(env.out, result)
        if args.figure:
            env.err.print(f"Drawn to {args.figure}.")
    return ExitStatus.DONE
