"""How many pages are visited, and how fast: what the verbs that visit sites have in common."""

from __future__ import annotations

import argparse


def arguments(parser: argparse.ArgumentParser, most: int) -> None:
    parser.add_argument("--most", metavar="N", type=int, default=most, help=f"visit so many pages at most ({most})")
    parser.add_argument("--rate", metavar="N", type=float, default=8.0, help="requests a second on each site (8)")
    parser.add_argument("--minutes", metavar="N", type=float, default=60.0, help="visit for so long at most (60)")


def check(args: argparse.Namespace) -> None:
    """Raise VoyageError where nothing could be visited so."""
    from nostos.core.errors import VoyageError

    if args.most < 1 or not args.rate > 0 or not args.minutes > 0:
        raise VoyageError("--most, --rate and --minutes must be above nought.",
                          next_step="Leave them out, or write a number.")
