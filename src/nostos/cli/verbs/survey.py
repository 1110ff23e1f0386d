"""`nostos survey SITE`"""

from __future__ import annotations

import argparse
from pathlib import Path

from nostos.cli.environment import Environment, ExitStatus


def arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("site", metavar="SITE", help="a site's folder, or its site file")
    parser.add_argument("--report", metavar="FILE", help="write it to a file as well: .txt, .md or .json")
    parser.epilog = ("Example:\n  nostos survey /srv/www/site --report survey.md\n\n"
                     "Exit status 1: an obstacle was found.")


def run(args: argparse.Namespace, env: Environment) -> ExitStatus:
    from nostos.around.survey import survey
    from nostos.core.sites.recognise import recognise
    from nostos.show import surveying
    from nostos.show.output import write_json
    from nostos.show.progress import shown

    with shown(env.err) as tell:
        result = survey(recognise(args.site), tell)
    if args.report:
        surveying.report(result, Path(args.report))
    if env.json:
        write_json(env.stdout, result)
    else:
        surveying.survey(env.out, result)
    return ExitStatus.LOOK if result.obstacles else ExitStatus.DONE
