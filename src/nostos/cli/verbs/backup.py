"""`nostos backup SITE`"""

from __future__ import annotations

import argparse
from pathlib import Path

from nostos.cli.environment import Environment, ExitStatus


def arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("site", metavar="SITE", help="the site's folder, or its site file")
    parser.add_argument("--to", metavar="FILE", help="the file to make (left out: one in Nostos's home)")
    parser.epilog = ("Examples:\n  nostos backup /srv/www/site\n"
                     "  nostos backup /srv/www/site --to /mnt/safe/site.tar.zst\n\nThe site goes on "
                     "meanwhile. The file may hold passwords: keep it as private as the site.")


def run(args: argparse.Namespace, env: Environment) -> ExitStatus:
    from nostos.cli.keeping import age_out
    from nostos.core.backup.write import backup, default_place
    from nostos.core.clock import now
    from nostos.core.sites.recognise import recognise
    from nostos.core.voyages.history import recorded
    from nostos.core.voyages.home import Home
    from nostos.show import backups, data
    from nostos.show.output import write_json
    from nostos.show.progress import shown

    home = Home(env.home)
    site = recognise(args.site)
    to = Path(args.to).expanduser() if args.to else default_place(home.path / "backups", site, now())
    with recorded(home, "backup", "", site.name) as record, shown(env.err) as tell:
        result = backup(site, to.absolute(), tell)
        record.counts = {"rows": result.rows, "files": result.files, "bytes": result.size}
        record.note_route(site.url, str(result.path))
        gone = age_out(env, home)
    if env.json:
        write_json(env.stdout, data.backed_up(result))
    else:
        backups.backed_up(env.out, result)
        backups.aged_out(env.out, gone)
    return ExitStatus.DONE
