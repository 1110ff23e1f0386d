"""`nostos clone SITE VOYAGE --into DIR --url URL`"""

from __future__ import annotations

import argparse
from pathlib import Path

from nostos.cli import site_commands
from nostos.cli.environment import PASSWORD, Environment, ExitStatus, staging_password


def arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("site", metavar="SITE",
                        help="the live site's folder, or its site file; SITE#ADDRESS is --site ADDRESS")
    parser.add_argument("voyage", metavar="VOYAGE", help="a name for this staging copy")
    parser.add_argument("--into", metavar="DIR", required=True, help="the folder to make; it must not hold anything")
    parser.add_argument("--url", metavar="URL", required=True, help="where the staging copy will answer")
    parser.add_argument("--database", metavar="URL", help="staging's own database (left out: as live's lies to live)")
    parser.add_argument("--prefix", metavar="P", help="what the names of staging's tables begin with (servers only)")
    parser.add_argument("--skip", metavar="GLOB", action="append", default=[], help="files to leave out; repeatable")
    parser.add_argument("--skip-rows", metavar="TABLE", action="append", default=[],
                        help="tables that are made but left empty, such as logs, and never compared; repeatable")
    parser.add_argument("--follow", metavar="LINK", action="append", default=[],
                        help="a link out of the site's folder, to be copied as the folder it leads to; repeatable")
    parser.add_argument("--over", action="store_true",
                        help="the folder holds something, such as a host's placeholders: it is set aside, and comes "
                             "back when the copy is retired")
    parser.add_argument("--site", metavar="NUMBER|ADDRESS", dest="of_site", default="",
                        help="of an installation of several sites, the one that this voyage is of; what is another's, "
                             "or shared, goes home only when it is named")
    parser.add_argument("--address", metavar="LIVE=STAGING", action="append", default=[], dest="addresses",
                        help="a further address that live answers at, such as another site's of its installation, and "
                             "what it is in the copy; repeatable")
    parser.add_argument("--with", metavar="FILE", dest="answers",
                        help="what is known of the site that no profile says, as `nostos learn --save` wrote it")
    parser.add_argument("--mask", action="store_true",
                        help="made-up values for visitors' and members' personal data; none of them ever goes home")
    parser.add_argument("--gate", metavar="USER",
                        help="the copy's pages ask for this name and a password, which is asked for now or read from "
                             f"{PASSWORD}")
    site_commands.arguments(parser)
    parser.epilog = ("Example:\n  nostos clone /srv/www/site autumn --into /srv/www/staging "
                     "--url https://staging.example --skip 'old-backups/**'")


def run(args: argparse.Namespace, env: Environment) -> ExitStatus:
    from nostos.core.anchor.open_voyage import answers_of
    from nostos.core.clone.clone import clone
    from nostos.core.clone.options import CloneOptions
    from nostos.core.errors import SiteError
    from nostos.core.hosts.far_path import written
    from nostos.core.learning.findings import take_answers
    from nostos.core.sites.guards import gate as make_gate
    from nostos.core.sites.recognise import recognise
    from nostos.core.voyages.history import recorded
    from nostos.core.voyages.home import Home
    from nostos.show.cloning import cloned
    from nostos.show.output import write_json
    from nostos.show.progress import shown

    addresses = dict(pair.split("=", 1) for pair in args.addresses if "=" in pair)
    if len(addresses) < len(args.addresses):
        raise SiteError("Not every --address is two different addresses with = between.", left="Nothing was made.",
                        next_step="Such as --address shop.example=shop.staging.example.")
    gate = make_gate(args.gate, staging_password()) if args.gate else ""
    home = Home(env.home)
    if "#" in args.site and not args.of_site and not Path(args.site).exists():
        args.site, _, args.of_site = args.site.rpartition("#")
    live = recognise(args.site)
    if args.answers:
        home.make()
        take_answers(Path(args.answers).expanduser(), answers_of(home, live))
    with recorded(home, "clone", args.voyage, live.name) as record, shown(env.err) as tell, \
            site_commands.commands(args, env, live, "clone", record, written(args.into)) as ran:
        result = clone(home, args.site, args.voyage, args.into, args.url, CloneOptions(
            args.database, args.prefix, args.skip, args.mask, gate, args.follow, args.skip_rows, args.over,
            args.of_site, addresses), tell)
        record.note_route(live.url, result.voyage.url)
        record.counts = {"rows": result.rows, "files": result.files, "bytes": result.file_bytes}
    if env.json:
        write_json(env.stdout, result)
    else:
        cloned(env.out, result)
    return ExitStatus.LOOK if ran.failed else ExitStatus.DONE
