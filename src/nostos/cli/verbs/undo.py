"""`nostos undo [VOYAGE] [MERGE]`"""

from __future__ import annotations

import argparse

from nostos.cli import choosing, site_commands
from nostos.cli.environment import Environment, ExitStatus


def arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("voyage", metavar="VOYAGE", nargs="?", help="left out where there is just one")
    parser.add_argument("merge", metavar="MERGE", nargs="?", help="its id (left out: the last one not taken back)")
    parser.add_argument("--leave", metavar="P", action="append", default=[], help="leave these as they are; repeatable")
    parser.add_argument("--schema", action="store_true",
                        help="also remove tables, columns and indexes that it added, where they are empty")
    parser.add_argument("--list", action="store_true", help="list what can be taken back, and stop")
    parser.add_argument("--dry-run", action="store_true", help="show the operations and stop")
    parser.add_argument("--yes", action="store_true", help="do not ask")
    site_commands.arguments(parser)
    parser.epilog = ("Examples:\n  nostos undo autumn\n  nostos undo autumn --list\n\n"
                     "What live gained since stays. Exit status 1: live has moved on somewhere, and stays there.")


def run(args: argparse.Namespace, env: Environment) -> ExitStatus:
    from nostos.core.anchor.open_voyage import opened
    from nostos.core.apply.merge import merge
    from nostos.core.plan.selection import Choice
    from nostos.core.takeback.undo import done, prepare_undo, to_take_back
    from nostos.core.voyages.history import recorded
    from nostos.core.voyages.home import Home
    from nostos.show import data, merging
    from nostos.show.output import write_json

    home = Home(env.home)
    voyage = home.only(args.voyage)
    if args.list:
        every = done(home, voyage.name)
        if env.json:
            write_json(env.stdout, every)
        else:
            merging.taken_back_list(env.out, every)
        return ExitStatus.DONE
    with home.lock(voyage.name), opened(home, voyage) as crew:
        which = to_take_back(home, voyage.name, args.merge)
        prepared = prepare_undo(home, crew, which, Choice(leave=tuple(args.leave), everyone=True), args.schema)
        stays = merging.staying(prepared)
        ended = ExitStatus.LOOK if stays else ExitStatus.DONE
        if not env.json:
            merging.undo_plan(env.out, prepared, which, voyage.live_name)
        if choosing.stops(args, env, prepared, "Nothing was done."):
            site_commands.announce(args, env, crew.live, "undo")
            return ended
        going = len(prepared.plan.selection.chosen)
        choosing.confirm(env, args.yes, f"Take {going} items back from {voyage.live_name}?")
        with recorded(home, "undo", voyage.name, voyage.live_name) as record, site_commands.commands(
                args, env, crew.live, "undo", record) as ran:
            result = merge(home, crew, prepared)
            record.note_route(f"journal {which.id}", voyage.live_url, result.between)
            record.counts = {"items": len(prepared.plan.selection.chosen), "stayed": len(stays)}
    ended = ExitStatus.LOOK if ran.failed else ended
    if env.json:
        write_json(env.stdout, {**data.plan(prepared), **data.merged(result), "undoes": which.id})
    else:
        env.out.print()
        merging.undone(env.out, result, which, voyage)
    return ended
