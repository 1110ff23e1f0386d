"""`nostos compare [VOYAGE] [ITEM...]`"""

from __future__ import annotations

import argparse
from pathlib import Path

from nostos.cli import visiting
from nostos.cli.environment import Environment, ExitStatus

_STANDINGS = ("homeward", "blended", "clash", "open", "kept", "settled")


def arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("voyage", metavar="VOYAGE", nargs="?", help="left out where there is just one")
    parser.add_argument("items", metavar="ITEM", nargs="*", help="show these field by field, such as page/visit")
    parser.add_argument("--standing", metavar="S", action="append", choices=_STANDINGS, default=[],
                        help=f"list only these: {', '.join(_STANDINGS)}; repeatable")
    parser.add_argument("--kind", metavar="KIND", action="append", default=[],
                        help="list only items of this kind; repeatable")
    parser.add_argument("--all", action="store_true", help="each item by its name, however many there are")
    parser.add_argument("--html", metavar="FILE", help="also write it to a page for others to read")
    parser.add_argument("--pictures", action="store_true",
                        help="put pictures of each page on live and in staging on that page (needs Chromium)")
    visits = parser.add_argument_group("with --pictures")
    visiting.arguments(visits, 200)
    visiting.entry_arguments(visits)
    parser.epilog = ("Examples:\n  nostos compare autumn\n  nostos compare autumn page/programme\n"
                     "  nostos compare autumn --standing kept\n  nostos compare autumn --html changes.html\n"
                     "  nostos compare autumn --html changes.html --pictures\n\n"
                     "Exit status 1: there are clashes, or questions.")


def run(args: argparse.Namespace, env: Environment) -> ExitStatus:
    from nostos.cli.completing import keep_names
    from nostos.core.anchor.open_voyage import opened
    from nostos.core.compare.field_merge import Standing
    from nostos.core.compare.gather import describe_reference
    from nostos.core.compare.known import known_of
    from nostos.core.errors import SelectionError
    from nostos.core.patterns import matching, nearest
    from nostos.core.plan.prepared import compare_voyage
    from nostos.core.plan.selection import stays
    from nostos.core.voyages.home import Home
    from nostos.show import comparing, data
    from nostos.show.output import write_json
    from nostos.show.progress import shown

    visiting.check(args)
    visiting.check_pictures(args)
    home = Home(env.home)
    if args.voyage and "/" in args.voyage and args.voyage not in home.names():
        args.items.insert(0, args.voyage)  # one voyage, whose name was left out
        args.voyage = None
    voyage = home.only(args.voyage)
    with opened(home, voyage) as crew:
        with shown(env.err) as tell:
            comparison, needs = compare_voyage(crew, tell)
        keep_names(home.path, voyage.name, {i.id: i.title for i in comparison.items.values()})
        for pattern in args.items:
            if not matching(comparison.items, [pattern]):
                raise SelectionError(f"Nothing that changed is called {pattern}.",
                                     next_step=nearest(comparison.items, pattern))
        chosen = [comparison.items[i] for i in sorted(matching(comparison.items, args.items))]

        def describe(text: str) -> str:
            return describe_reference(crew.anchor, comparison.rows, text)

        if args.html:
            from nostos.core.plan.offered import offers
            from nostos.show.html import Reporter

            offered = None if chosen else offers(crew, comparison, needs)
            pictured = []
            if args.pictures:
                from nostos.around.trial.pictures import of_comparison
                from nostos.around.trial.run import Options

                with shown(env.err) as tell:
                    pictured = of_comparison(crew, comparison, Options(args.most, args.rate, args.minutes,
                                                                  visiting.entry(args)), tell)
            Reporter(crew, comparison, needs, describe).comparison(Path(args.html), chosen, offered, pictured)
            env.err.print(f"Written to {args.html}.")
        if env.json:
            if chosen:
                write_json(env.stdout, {"items": [{**data.item(i, needs, describe),
                                                   "known": list(known_of(comparison, i))}
                                                  for i in chosen]})
            else:
                write_json(env.stdout, data.comparison(comparison, needs))
        elif chosen:
            for n, item in enumerate(chosen):
                if n:
                    env.out.print()
                comparing.item(env.out, item, needs, describe, known_of(comparison, item))
        else:
            known = {i.kind for i in comparison.items.values()}
            for kind in args.kind:
                if kind not in known:
                    raise SelectionError(f"Nothing that changed is of the kind {kind}.",
                                         next_step=f"There are: {', '.join(sorted(known)) or 'none'}.")
            comparing.comparison(env.out, comparison, needs, args.standing, args.kind, args.all or bool(args.kind))
    shown_items = chosen or list(comparison.items.values())
    return ExitStatus.LOOK if any(
        i.standing in (Standing.CLASH, Standing.OPEN) and not stays(i) for i in shown_items) else ExitStatus.DONE
