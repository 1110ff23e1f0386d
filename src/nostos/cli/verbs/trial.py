"""`nostos trial [VOYAGE]`"""

from __future__ import annotations

import argparse
from pathlib import Path

from nostos.cli import visiting
from nostos.cli.environment import Environment, ExitStatus


def arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("voyage", metavar="VOYAGE", nargs="?", help="left out where there is just one")
    visiting.arguments(parser, 200)
    visiting.entry_arguments(parser)
    parser.add_argument("--remember", metavar="NAME", help="keep what was seen under a name")
    parser.add_argument("--against", metavar="NAME", help="hold staging against what was seen there then")
    parser.add_argument("--pictures", metavar="DIR", help="pictures of both, and what differs in them (needs Chromium)")
    parser.add_argument("--html", metavar="FILE", help="write it to a page for others to read")
    parser.epilog = ("Examples:\n  nostos trial autumn --remember before\n  nostos trial autumn --against before\n\n"
                     "Exit status 1: something broke.")


def run(args: argparse.Namespace, env: Environment) -> ExitStatus:
    from nostos.around.trial.compare import count
    from nostos.around.trial.run import Options, judged, remember, remembered, visit
    from nostos.core.anchor.open_voyage import opened
    from nostos.core.voyages.history import recorded
    from nostos.core.voyages.home import Home
    from nostos.show import trying
    from nostos.show.output import write_json
    from nostos.show.progress import shown

    visiting.check(args)
    home = Home(env.home)
    voyage = home.only(args.voyage)
    against = (args.against, remembered(home, voyage.name, args.against)) if args.against else None
    options = Options(args.most, args.rate, args.minutes, visiting.entry(args))
    with opened(home, voyage) as crew, recorded(home, "trial", voyage.name, voyage.live_name) as record:
        with shown(env.err) as tell:
            seen, left = visit(crew, options, tell)
            result = judged(crew, seen, left, against)
            pictures = []
            if args.pictures:
                from nostos.around.trial.pictures import take
                from nostos.around.trial.run import visitors

                with visitors(crew, options) as both:
                    pictures = take(result, Path(args.pictures), *both, tell)
        if args.remember:
            remember(home, voyage.name, args.remember, seen)
        record.counts = {"pages": len(result.pages), **{str(v): n for v, n in count(result.pages).items()}}
        record.note_route(voyage.live_url, voyage.url)
    if args.html:
        from nostos.show.html import write_trial

        write_trial(Path(args.html), voyage, result, pictures)
    if env.json:
        write_json(env.stdout, {"when": result.when, "pages": result.pages, "everywhere": result.everywhere,
                                "left": result.left, "against": result.against, "pictures": pictures})
    else:
        trying.trial(env.out, result, args.remember)
        trying.pictures(env.out, pictures)
    return ExitStatus.LOOK if result.broke else ExitStatus.DONE
