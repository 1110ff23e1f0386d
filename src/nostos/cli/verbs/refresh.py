"""`nostos refresh [VOYAGE]`"""

from __future__ import annotations

import argparse
from typing import TYPE_CHECKING

from nostos.cli import choosing, site_commands
from nostos.cli.environment import Environment, ExitStatus

if TYPE_CHECKING:
    from nostos.core.voyages.home import Home, Voyage


def arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("voyage", metavar="VOYAGE", nargs="?", help="left out where there is just one")
    choosing.arguments(parser, "all that live changed")
    parser.add_argument("--afresh", action="store_true", help="start over: staging becomes a new copy of live")
    parser.add_argument("--dry-run", action="store_true", help="show the operations and stop")
    parser.add_argument("--yes", action="store_true", help="do not ask")
    site_commands.arguments(parser)
    parser.epilog = ("Examples:\n  nostos refresh autumn\n  nostos refresh autumn --take 'order/*' --take 'comment/*'\n"
                     "  nostos refresh autumn --afresh\n\n"
                     "Staging's own work stays. Exit status 1: clashes are left, staging as it was there.")


def run(args: argparse.Namespace, env: Environment) -> ExitStatus:
    from nostos.core.anchor.names import Side
    from nostos.core.anchor.open_voyage import opened
    from nostos.core.apply.merge import merge
    from nostos.core.errors import SelectionError
    from nostos.core.plan.prepared import prepare
    from nostos.core.voyages.history import recorded
    from nostos.core.voyages.home import Home
    from nostos.show import data, merging
    from nostos.show.output import write_json
    from nostos.show.progress import shown

    home = Home(env.home)
    voyage = home.only(args.voyage)
    if args.afresh:
        if args.take or args.leave or args.prefer:
            raise SelectionError("--afresh takes everything from live; nothing can be chosen beside it.",
                                 next_step="Leave --take, --leave and --prefer out.")
        return _afresh(args, env, home, voyage)
    with home.lock(voyage.name), opened(home, voyage) as crew:
        with shown(env.err) as tell:
            prepared = prepare(crew, choosing.chosen(args, voyage, everyone=True), tell, Side.STAGING)
        clashes = prepared.plan.selection.clashes
        ended = ExitStatus.LOOK if clashes else ExitStatus.DONE
        if not env.json:
            merging.plan(env.out, prepared, f"voyage {voyage.name}")
        if choosing.stops(args, env, prepared, "Live has nothing new for staging. Nothing was done."):
            site_commands.announce(args, env, crew.live, "refresh")
            return ended
        choosing.confirm(env, args.yes, f"Bring {len(prepared.plan.selection.chosen)} items into staging?")
        with recorded(home, "refresh", voyage.name, voyage.live_name) as record, shown(env.err) as tell, \
                site_commands.commands(args, env, crew.live, "refresh", record, crew.staging.files.at) as ran:
            result = merge(home, crew, prepared, tell)
            record.note_route(voyage.live_url, voyage.url, result.between)
            record.counts = {"items": len(prepared.plan.selection.chosen), "clashes": len(result.clashes)}
    ended = ExitStatus.LOOK if ran.failed else ended
    if env.json:
        write_json(env.stdout, {**data.plan(prepared), **data.merged(result)})
    else:
        env.out.print()
        merging.refreshed(env.out, result, voyage.name, voyage.since)
    return ended


def _afresh(args: argparse.Namespace, env: Environment, home: Home, voyage: Voyage) -> ExitStatus:
    from nostos.core.clone.afresh import afresh
    from nostos.core.errors import VoyageError
    from nostos.core.hosts.far_path import written
    from nostos.core.sites.recognise import recognise
    from nostos.core.voyages.history import recorded
    from nostos.show.cloning import cloned
    from nostos.show.output import write_json
    from nostos.show.progress import shown

    if not args.yes:
        env.err.print(f"This replaces {voyage.into} and its database with a new copy of live. "
                      "What was done in staging and not merged is gone then. Live is not touched.")
        if env.ask(f"Type the voyage's name to start afresh ({voyage.name}): ") != voyage.name:
            raise VoyageError("The name does not match.", next_step="Run it again, or with --yes.")
    with recorded(home, "refresh afresh", voyage.name, voyage.live_name) as record, shown(env.err) as tell, \
            site_commands.commands(args, env, recognise(voyage.live), "clone", record, written(voyage.into)) as ran:
        result = afresh(home, voyage, tell)
        record.note_route(voyage.live_url, voyage.url)
        record.counts = {"rows": result.rows, "files": result.files, "bytes": result.file_bytes}
    if env.json:
        write_json(env.stdout, result)
    else:
        cloned(env.out, result)
    return ExitStatus.LOOK if ran.failed else ExitStatus.DONE
