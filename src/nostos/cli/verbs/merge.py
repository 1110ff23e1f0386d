"""`nostos merge [VOYAGE]`"""

from __future__ import annotations

import argparse
from collections.abc import Sequence
from pathlib import Path
from typing import TYPE_CHECKING

from nostos.cli import choosing, site_commands, visiting, watching
from nostos.cli.environment import Environment, ExitStatus

if TYPE_CHECKING:
    from nostos.around.trial.pictures import Shots
    from nostos.core.anchor.open_voyage import Crew
    from nostos.core.apply.merge import MergeResult
    from nostos.core.plan.prepared import PreparedMerge


def arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("voyage", metavar="VOYAGE", nargs="?", help="left out where there is just one")
    choosing.merge_arguments(parser)
    parser.add_argument("--as-rehearsed", metavar="ID",
                        help="do what `nostos rehearse` did; refuse if it would be anything else")
    parser.add_argument("--dry-run", action="store_true", help="show the operations and stop")
    parser.add_argument("--html", metavar="FILE", help="also write what goes home, and the ledger, to a page")
    parser.add_argument("--yes", action="store_true", help="do not ask")
    watching.arguments(parser)
    site_commands.arguments(parser)
    parser.epilog = ("Examples:\n  nostos merge autumn --dry-run\n"
                     "  nostos merge autumn --take 'page/*' --take menu/main\n"
                     "  nostos merge autumn --selection pages.toml\n"
                     "  nostos merge autumn --watch\n"
                     "\nExit status 1: merged, and clashes or questions are left for you to look at; or pages of live "
                     "fail since.")


def run(args: argparse.Namespace, env: Environment) -> ExitStatus:
    from nostos.cli.keeping import age_out
    from nostos.core.anchor.open_voyage import opened
    from nostos.core.apply.merge import merge
    from nostos.core.errors import NostosError
    from nostos.core.plan.prepared import prepare
    from nostos.core.plan.selection_file import read
    from nostos.core.takeback.undo import to_take_back
    from nostos.core.voyages.history import recorded
    from nostos.core.voyages.home import Home
    from nostos.show import backups, data, merging
    from nostos.show.output import write_json
    from nostos.show.progress import shown

    visiting.check_pictures(args)
    home = Home(env.home)
    voyage = home.only(args.voyage)
    with home.lock(voyage.name), opened(home, voyage) as crew:
        rehearsal = None
        if args.as_rehearsed:  # what visits sites is not loaded for every merge
            from nostos.around.rehearsal.rehearse import check_same, rehearsed

            rehearsal = rehearsed(home, args.as_rehearsed, voyage.name)
            choosing.say_again(args, rehearsal.choice)
        with shown(env.err) as tell:
            prepared = prepare(crew, choosing.chosen(args, voyage), tell)
        if rehearsal is not None:
            check_same(rehearsal, prepared)
        clashes = prepared.plan.selection.clashes
        ended = ExitStatus.LOOK if clashes or prepared.plan.selection.waiting else ExitStatus.DONE
        if not env.json:
            merging.plan(env.out, prepared, voyage.live_name)
        if choosing.stops(args, env, prepared, "There is nothing to bring home. Nothing was done."):
            site_commands.announce(args, env, crew.live, "merge")
            _report(args, env, crew, prepared, None)
            return ended
        going = len(prepared.plan.selection.chosen)
        choosing.confirm(env, args.yes, f"Bring {going} items home to {voyage.live_name}?")
        file = read(args.selection) if args.selection else None
        watch = watching.begun(args, env, crew, prepared)
        with recorded(home, "merge", voyage.name, voyage.live_name) as record, shown(env.err) as tell, \
                site_commands.commands(args, env, crew.live, "merge", record) as ran:
            result = merge(home, crew, prepared, tell)
            record.note_route(voyage.url, voyage.live_url, result.between)
            if file is not None:
                record.chosen_by, record.remarks = file.chosen_by, dict(file.remarks)
            gone = age_out(env, home)
            record.counts = {"items": going, "clashes": len(result.clashes),
                             "gained on live": sum(line.gained for line in result.ledger)}
        watched = undone = again = None
        if watch is not None:
            from nostos.show import trying

            watched = watching.looked(watch, env)
        if watch is not None and watched is not None and watched.failing:
            if not env.json:
                trying.failing(env.out, watched, voyage.name)
            if watching.wants_back(args, env):
                undone = watching.take_back(args, env, home, crew, to_take_back(home, voyage.name, result.id))
                again = watch.after(only=[p.path for p in watched.failing])
        try:
            _report(args, env, crew, prepared, result, watched.shots if watched is not None else ())
        except NostosError as error:  # the merge is done all the same
            env.err.print(f"The merge is done. Its report is not: {error.what}", soft_wrap=True)
            ended = ExitStatus.LOOK
    ended = ExitStatus.LOOK if ran.failed or (watched is not None and watched.failing) else ended
    if env.json:
        write_json(env.stdout, {**data.plan(prepared), **data.merged(result),
                                **data.watched(watched, undone, again)})
    elif undone is not None:
        trying.taken_back(env.out, undone, again, voyage.live_name)
    else:
        env.out.print()
        merging.merged(env.out, result, voyage.live_name, voyage.since)
        if watched is not None and not watched.failing:
            trying.unbroken(env.out, watched)
        backups.aged_out(env.out, gone)
    return ended


def _report(args: argparse.Namespace, env: Environment, crew: Crew, prepared: PreparedMerge,
            result: MergeResult | None, shots: Sequence[Shots] = ()) -> None:
    if not args.html:
        return
    from nostos.core.compare.gather import describe_reference
    from nostos.show.html import Reporter

    rows = prepared.comparison.rows
    Reporter(crew, prepared.comparison, prepared.needs,
             lambda text: describe_reference(crew.anchor, rows, text)).merge(Path(args.html), prepared, result, shots)
    env.err.print(f"Written to {args.html}.")
