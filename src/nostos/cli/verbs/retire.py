"""`nostos retire VOYAGE`"""

from __future__ import annotations

import argparse

from nostos.cli.environment import Environment, ExitStatus


def arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("voyage", metavar="VOYAGE", nargs="?", help="left out where there is just one")
    parser.add_argument("--yes", action="store_true", help="do not ask for the voyage's name")
    parser.epilog = "Example:\n  nostos retire autumn"


def run(args: argparse.Namespace, env: Environment) -> ExitStatus:
    from nostos.core.clone.remove import check_removable, remove
    from nostos.core.errors import VoyageError
    from nostos.core.hosts.far_path import written
    from nostos.core.voyages.history import recorded
    from nostos.core.voyages.home import Home
    from nostos.show.output import write_json

    home = Home(env.home)
    voyage = home.only(args.voyage)
    with home.lock(voyage.name):
        check_removable(home, voyage.name)
        if not args.yes:
            env.err.print(f"This removes {voyage.into}, its database and all that is remembered of voyage "
                          f"{voyage.name}. What was not merged is gone then. Live is not touched.")
            if env.ask(f"Type the voyage's name to retire it ({voyage.name}): ") != voyage.name:
                raise VoyageError("The name does not match.", next_step="Run it again, or with --yes.")
        with recorded(home, "retire", voyage.name, voyage.live_name) as record:
            record.note_route(voyage.url, "")
            gone = not written(voyage.into).exists()
            left = remove(home, voyage)
    if env.json:
        write_json(env.stdout, {"voyage": voyage.name, "left": left})
    else:
        copy = f"{voyage.into} was gone already" if gone else f"{voyage.into} and its database are gone"
        env.out.print(f"Voyage {voyage.name} is retired{', but not all of its copy is gone' if left else f': {copy}'}. "
                      "Live was not touched.")
        for line in left:
            env.out.print(f"Left in place: {line}.")
    return ExitStatus.LOOK if left else ExitStatus.DONE
