"""`nostos restore FILE SITE`"""

from __future__ import annotations

import argparse
import glob
import tempfile
from pathlib import Path
from typing import TYPE_CHECKING

from nostos.cli import choosing, site_commands
from nostos.cli.environment import Environment, ExitStatus

if TYPE_CHECKING:
    from nostos.core.sites.recognise import Site
    from nostos.core.voyages.home import Home


_LOCK = "-restore"  # no voyage can be called so


def arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("file", metavar="FILE", help="a backup")
    parser.add_argument("site", metavar="SITE", help="the site's folder or site file; a new folder makes a new site")
    parser.add_argument("--take", metavar="P", action="append", default=[],
                        help="bring only these back, such as 'order/*'; repeatable")
    parser.add_argument("--leave", metavar="P", action="append", default=[],
                        help="with --take: leave these; repeatable")
    parser.add_argument("--url", metavar="URL", help="for a new site: where it will answer (left out: as the old one)")
    parser.add_argument("--database", metavar="URL", help="for a new site: its database, empty")
    parser.add_argument("--prefix", metavar="P", help="for a new site: what the names of its tables begin with")
    parser.add_argument("--dry-run", action="store_true", help="verify, show what it would do, and stop")
    parser.add_argument("--yes", action="store_true", help="do not ask")
    site_commands.arguments(parser)
    parser.epilog = ("Examples:\n  nostos restore site.tar.zst /srv/www/site --dry-run\n"
                     "  nostos restore site.tar.zst /srv/www/site --take page/visit --take 'order/*'\n"
                     "  nostos restore site.tar.zst /srv/www/second --url https://second.example\n\n"
                     "What it replaces is backed up first. With --take nothing that live gained is removed.")


def run(args: argparse.Namespace, env: Environment) -> ExitStatus:
    from nostos.core.backup.new_site import is_free, make_place
    from nostos.core.errors import SelectionError, SiteError
    from nostos.core.hosts.far_path import written
    from nostos.core.sites.recognise import recognise
    from nostos.core.voyages.home import Home

    home = Home(env.home)
    home.make()
    file = Path(args.file).expanduser()
    if not file.exists() and file.name == args.file:  # one of those that Nostos keeps
        file = next((home.path / "backups").glob(f"*/{glob.escape(args.file)}"), file)
    args.file = file
    place = written(args.site)
    if args.leave and not args.take:
        raise SelectionError("A whole restore leaves nothing out.", next_step="Name what to bring back with --take.")
    if is_free(place):
        if args.take:
            raise SiteError(f"There is no site at {place}, so nothing can be brought into it.",
                            next_step="Name the site, or leave --take out.")
        if args.dry_run:
            raise SiteError(f"There is no site at {place} yet: it would be made.", next_step="Leave --dry-run out.")
        with home.lock(_LOCK):
            site = make_place(file, place, args.url, args.database, args.prefix)
            return _whole(args, env, home, site, anew=True)
    if args.url or args.database or args.prefix:
        raise SiteError(f"There is something at {place}; --url, --database and --prefix are for a new site.",
                        next_step="Name a new folder, or leave them out.")
    site = recognise(place)
    with home.lock(_LOCK):
        return _some(args, env, home, site) if args.take else _whole(args, env, home, site)


def _whole(args: argparse.Namespace, env: Environment, home: Home, site: Site, anew: bool = False) -> ExitStatus:
    from nostos.cli.keeping import age_out
    from nostos.core.backup.outlook import inspect_backup
    from nostos.core.backup.restore import restore
    from nostos.core.errors import MergeRefused
    from nostos.core.voyages.history import recorded
    from nostos.show import backups, data
    from nostos.show.output import write_json
    from nostos.show.progress import shown

    with shown(env.err) as tell:
        outlook = inspect_backup(args.file, site, tell)
    if not env.json and not anew:
        backups.outlook(env.out, outlook)
    if args.dry_run:
        site_commands.announce(args, env, site, "restore")
    if args.dry_run or not outlook.acts:
        if env.json:
            write_json(env.stdout, data.outlook(outlook))
        else:
            env.out.print("Nothing was done." if outlook.acts else "The site is as in the backup. Nothing was done.")
        return ExitStatus.DONE
    if not args.yes and not anew and env.ask(f"Type the site's name to restore it ({site.name}): ") != site.name:
        raise MergeRefused("The name does not match.", next_step="Run it again, or with --yes.")
    with recorded(home, "restore", "", site.name) as record, shown(env.err) as tell, \
            site_commands.commands(args, env, site, "restore", record) as ran:
        result = restore(home, outlook, tell, anew)
        record.counts = {"rows": result.rows, "files": result.files}
        record.note_route(str(outlook.path), site.url, result.between)
        gone = age_out(env, home)
    if env.json:
        write_json(env.stdout, {**data.outlook(outlook), **data.restored(result, anew)})
    else:
        backups.restored(env.out, result, outlook, anew)
        backups.aged_out(env.out, gone)
    return ExitStatus.LOOK if result.late or ran.failed else ExitStatus.DONE


def _some(args: argparse.Namespace, env: Environment, home: Home, site: Site) -> ExitStatus:
    from nostos.core.apply.merge import merge
    from nostos.core.backup.items import detached, prepare_things
    from nostos.core.plan.selection import Choice
    from nostos.core.voyages.history import recorded
    from nostos.show import backups, data
    from nostos.show.output import write_json
    from nostos.show.progress import shown

    file: Path = args.file
    database = site.open(readonly=True)
    try:
        with tempfile.TemporaryDirectory(prefix=".things-", dir=home.path) as scratch:
            with shown(env.err) as tell:
                prepared = prepare_things(home, file, site, Choice(tuple(args.take), tuple(args.leave)),
                                          Path(scratch) / "files", tell)
            if not env.json:
                backups.coming_back(env.out, prepared, site)
            if choosing.stops(args, env, prepared, "It is all there. Nothing was done."):
                return ExitStatus.DONE
            choosing.confirm(env, args.yes, f"Bring {len(prepared.plan.selection.chosen)} items back?")
            with recorded(home, "restore", "", site.name) as record, shown(env.err) as tell, \
                    site_commands.commands(args, env, site, "restore", record) as ran:
                result = merge(home, detached(site, database), prepared, tell)
                record.counts = {"items": len(prepared.plan.selection.chosen)}
                record.note_route(str(file), site.url, result.between)
    finally:
        database.close()
    if env.json:
        write_json(env.stdout, {**data.plan(prepared), **data.merged(result)})
    else:
        env.out.print()
        backups.brought_back(env.out, result, site)
    return ExitStatus.LOOK if ran.failed else ExitStatus.DONE
