"""`--watch`: live's pages before and after a merge, and the merge taken back where they fail."""

from __future__ import annotations

import argparse
from pathlib import Path
from typing import TYPE_CHECKING

from nostos.cli import site_commands

if TYPE_CHECKING:
    from nostos.around.trial.watch import Watch, Watched
    from nostos.cli.environment import Environment
    from nostos.core.anchor.open_voyage import Crew
    from nostos.core.apply.merge import MergeResult
    from nostos.core.plan.prepared import PreparedMerge
    from nostos.core.takeback.undo import PastOperation
    from nostos.core.voyages.home import Home


def arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("--watch", action="store_true",
                        help="visit live's pages just before and right after, and say which fail that answered")
    parser.add_argument("--undo-if-broken", action="store_true",
                        help="watch, and take the merge back by itself if pages fail")
    parser.add_argument("--pictures", action="store_true",
                        help="watch, and put pictures of the pages before and after on the page of --html (needs "
                             "Chromium)")
    parser.add_argument("--pages", metavar="FILE", type=Path, help="watch these pages: a path or an address a line")
    parser.add_argument("--watch-pages", metavar="N", type=int, default=40, help="watch so many pages at most (40)")
    parser.add_argument("--watch-seconds", metavar="T", type=float, default=30.0,
                        help="visit for so many seconds at most, before and after each (30)")


def begun(args: argparse.Namespace, env: Environment, crew: Crew, prepared: PreparedMerge) -> Watch | None:
    """Begin to watch, if that is asked for. Raises SiteError where live does not answer."""
    from nostos.around.trial.watch import WatchOptions, paths_in, watch_of
    from nostos.core.errors import SiteError
    from nostos.show.progress import shown

    if not (args.watch or args.undo_if_broken or args.pages or args.pictures):
        return None
    if args.watch_pages < 1 or not args.watch_seconds > 0:
        raise SiteError("--watch-pages and --watch-seconds must be above nought.",
                        next_step="Leave them out, or write a number.")
    paths: tuple[str, ...] = ()
    if args.pages:
        try:
            paths = paths_in(args.pages.read_text(encoding="utf-8"), crew.live.url, str(args.pages))
        except (OSError, UnicodeDecodeError) as error:
            raise SiteError(f"{args.pages} cannot be read.", next_step="Check its path.") from error
    watch = watch_of(crew, prepared, WatchOptions(args.watch_pages, args.watch_seconds, paths))
    watch.pictures = args.pictures
    with shown(env.err) as tell:
        watch.before(tell)
    return watch


def looked(watch: Watch, env: Environment) -> Watched:
    """Visit the pages again."""
    from nostos.show.progress import shown

    with shown(env.err) as tell:
        return watch.after(tell)


def wants_back(args: argparse.Namespace, env: Environment) -> bool:
    """Whether a merge after which pages fail is to be taken back."""
    if args.undo_if_broken:
        return True
    return not args.yes and not env.json and env.ask("Take the merge back now? What live gained since stays. [y/N] "
                                                      ).lower() in ("y", "yes")


def take_back(args: argparse.Namespace, env: Environment, home: Home, crew: Crew, which: PastOperation
              ) -> MergeResult:
    """Take a merge back that was done a moment ago."""
    from nostos.core.apply.merge import merge
    from nostos.core.plan.selection import Choice
    from nostos.core.takeback.undo import prepare_undo
    from nostos.core.voyages.history import recorded

    prepared = prepare_undo(home, crew, which, Choice(everyone=True))
    with recorded(home, "undo", crew.voyage.name, crew.voyage.live_name) as record, site_commands.commands(
            args, env, crew.live, "undo", record):
        result = merge(home, crew, prepared)
        record.note_route(f"journal {which.id}", crew.voyage.live_url, result.between)
        record.counts = {"items": len(prepared.plan.selection.chosen)}
    return result
