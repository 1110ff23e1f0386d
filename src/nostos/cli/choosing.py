"""What `select`, `merge` and `refresh` have in common: options that say what is chosen."""

from __future__ import annotations

import argparse
from dataclasses import replace
from pathlib import Path
from typing import TYPE_CHECKING

if TYPE_CHECKING:
    from nostos.cli.environment import Environment
    from nostos.core.compare.items import Comparison
    from nostos.core.plan.prepared import ChoiceOf, PreparedMerge
    from nostos.core.plan.selection import Choice
    from nostos.core.voyages.home import Voyage


def arguments(parser: argparse.ArgumentParser, what: str) -> None:
    """Add the options. what: what is taken when nothing is named."""
    parser.add_argument("--take", metavar="P", action="append", default=[],
                        help=f"take these, such as 'page/*'; repeatable (left out: {what})")
    parser.add_argument("--leave", metavar="P", action="append", default=[], help="leave these; repeatable")
    parser.add_argument("--prefer", nargs=2, metavar=("SIDE", "ITEM"), action="append", default=[],
                        help="decide a clash for live or for staging; ITEM may name one field: page/visit:title")


def merge_arguments(parser: argparse.ArgumentParser) -> None:
    """Add the options by which a merge is chosen, and its rehearsal."""
    arguments(parser, "all that editors and administrators changed")
    parser.add_argument("--selection", metavar="FILE", type=Path,
                        help="what `nostos select --save` wrote, or what was saved on a page")
    parser.add_argument("--as-written", action="store_true",
                        help="texts that still speak of staging go home as they are")


def chosen(args: argparse.Namespace, voyage: Voyage, everyone: bool = False) -> ChoiceOf:
    """The choice that the options make, once the sites are compared. Raises SelectionError for a wrong --prefer."""
    from nostos.core.errors import SelectionError
    from nostos.core.plan.decisions import decision
    from nostos.core.plan.selection import Choice
    from nostos.core.plan.selection_file import read, with_voyage

    for side, text in args.prefer:
        if side not in ("live", "staging"):
            raise SelectionError(f"--prefer takes live or staging, not {side}.",
                                 next_step=f"Write --prefer staging {text}, or --prefer live {text}.")
    name = getattr(args, "selection", None)
    if name is not None and (args.take or args.leave or args.prefer):
        raise SelectionError("A selection file says all; --take, --leave and --prefer cannot be given beside it.",
                             next_step="Edit the file, or make a new one with `nostos select`.")
    file = with_voyage(read(name), voyage) if name is not None else None

    as_written = getattr(args, "as_written", False)

    def choice(comparison: Comparison) -> Choice:
        if file is not None:
            return replace(file.choice(comparison), as_written=as_written)
        prefer = tuple(decision(side, text, comparison.items) for side, text in args.prefer)
        return Choice(tuple(args.take), tuple(args.leave), prefer, everyone, as_written=as_written)

    return choice


def words(args: argparse.Namespace) -> tuple[tuple[str, ...], ...]:
    """What the options said, to be said again: what is taken, what is left, and sides and items by turns."""
    return tuple(args.take), tuple(args.leave), tuple(word for pair in args.prefer for word in pair)


def say_again(args: argparse.Namespace, lines: tuple[tuple[str, ...], ...]) -> None:
    """Put what was said once into options that say nothing."""
    if not (args.take or args.leave or args.prefer or getattr(args, "selection", None)) and len(lines) == 3:
        take, leave, prefer = lines
        args.take, args.leave = list(take), list(leave)
        args.prefer = [list(pair) for pair in zip(prefer[::2], prefer[1::2], strict=True)]


def confirm(env: Environment, sure: bool, question: str) -> None:
    """Ask before anything is done. Raises MergeRefused when the answer is not yes."""
    from nostos.core.errors import MergeRefused

    if not sure and env.ask(f"{question} [y/N] ").lower() not in ("y", "yes"):
        raise MergeRefused("You did not say yes.", next_step="Run it again; with --yes it does not ask.")


def stops(args: argparse.Namespace, env: Environment, prepared: PreparedMerge, nothing: str) -> bool:
    """Whether it ends here: it was to be shown only, or there is nothing to do, which `nothing` says. Shows it."""
    from nostos.show import data, merging
    from nostos.show.output import write_json

    if not args.dry_run and prepared.acts:
        return False
    if env.json:
        write_json(env.stdout, data.plan(prepared))
    elif prepared.plan.operations:
        env.out.print()
        merging.operations(env.out, prepared)
        env.out.print("Nothing was done.")
    else:
        env.out.print(nothing)
    return True
