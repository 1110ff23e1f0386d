"""`nostos select [VOYAGE]`"""

from __future__ import annotations

import argparse
from pathlib import Path

from nostos.cli import choosing
from nostos.cli.environment import Environment, ExitStatus


def arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("voyage", metavar="VOYAGE", nargs="?", help="left out where there is just one")
    choosing.arguments(parser, "all that editors and administrators changed")
    parser.add_argument("--selection", metavar="FILE", type=Path, help="start from this selection")
    parser.add_argument("--save", metavar="FILE", type=Path, help="write it to a file to read, edit and merge")
    parser.add_argument("--interactive", action="store_true", help="choose in a list, with the keyboard")
    parser.epilog = ("Examples:\n  nostos select autumn --take 'page/*' --prefer staging page/visit --save pages.toml\n"
                     "  nostos select autumn --interactive --save pages.toml\n"
                     "  nostos merge autumn --selection pages.toml\n\nExit status 1: clashes are left undecided.")


def run(args: argparse.Namespace, env: Environment) -> ExitStatus:
    from nostos.core.anchor.open_voyage import opened
    from nostos.core.clock import now
    from nostos.core.plan.prepared import prepare
    from nostos.core.plan.selection_file import write
    from nostos.core.voyages.home import Home
    from nostos.show import data, merging
    from nostos.show.output import write_json
    from nostos.show.progress import shown

    home = Home(env.home)
    voyage = home.only(args.voyage)
    with opened(home, voyage) as crew:
        with shown(env.err) as tell:
            prepared = prepare(crew, choosing.chosen(args, voyage), tell)
        if args.interactive:
            from nostos.cli.picking import pick

            prepared = pick(env, crew, prepared)
    if args.save is not None:
        write(args.save, voyage, prepared, now())
    if env.json:
        write_json(env.stdout, data.plan(prepared))
    else:
        merging.plan(env.out, prepared, voyage.live_name)
        if args.save is not None:
            env.out.print()
            env.out.print(f"Written to {args.save}. Next: nostos merge {voyage.name} --selection {args.save}")
        else:
            env.out.print()
            env.out.print("Nothing was done. With --save FILE it becomes a file to edit and to merge.")
    return ExitStatus.LOOK if prepared.plan.selection.clashes else ExitStatus.DONE
