"""`nostos recover [VOYAGE]`"""

from __future__ import annotations

import argparse

from nostos.cli.environment import Environment, ExitStatus


def arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("voyage", metavar="VOYAGE", nargs="?", help="left out: all of them")
    parser.epilog = ("Examples:\n  nostos recover\n  nostos recover autumn\n\n"
                     "What had reached live's database is finished; what had not is taken back. It may be run again.")


def run(args: argparse.Namespace, env: Environment) -> ExitStatus:
    from nostos.core.takeback.recover import recover
    from nostos.core.voyages.history import HistoryEntry, append, recorded, who
    from nostos.core.voyages.home import Home
    from nostos.show.output import write_json

    home = Home(env.home)
    with recorded(home, "recover", args.voyage or "", "") as record:
        results = recover(home, args.voyage)
        record.counts = {"operations": len(results)}
        for one in results:  # what was killed could not write its own line
            append(home,
                   HistoryEntry(one.when, who(), one.verb, one.voyage, "", 0.0, f"interrupted; {one.ended} by recover"))
    if env.json:
        write_json(env.stdout, results)
        return ExitStatus.DONE
    for one in results:
        outcomes = {"finished": "had reached the database: it is finished now. The site is exactly as it was to be.",
                "taken back": "had not reached the database: it is taken back. The site is exactly as it was before.",
                "removed": "had not ended: what it had made is removed. Live was not touched.",
                "given up": "was at work on a staging copy that is gone. There is nothing to finish. Live was not "
                            "touched."}[one.ended]
        whose = f"Voyage {one.voyage}: " if one.voyage else "The "  # a restore is of no voyage
        env.out.print(f"{whose}{one.operation} {outcomes}", soft_wrap=True)
        if one.stays:
            env.out.print(f"But for {'; '.join(one.stays)}: that stays as the operation had made it.", soft_wrap=True)
        if one.carried:
            env.out.print("What the site itself had written meanwhile into folders that were switched was kept: "
                          f"{', '.join(one.carried)}.", soft_wrap=True)
    if not results:
        env.out.print("Nothing was interrupted. There is nothing to recover.")
    return ExitStatus.DONE
