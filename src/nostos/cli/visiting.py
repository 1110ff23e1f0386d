"""How many pages are visited, and how fast: what the verbs that visit sites have in common."""

from __future__ import annotations

import argparse
from pathlib import Path
from typing import TYPE_CHECKING

from nostos.cli.environment import PASSWORD, staging_password

if TYPE_CHECKING:
    from nostos.around.trial.visit import Access


def arguments(parser: argparse._ActionsContainer, most: int) -> None:
    parser.add_argument("--most", metavar="N", type=int, default=most, help=f"visit so many pages at most ({most})")
    parser.add_argument("--rate", metavar="N", type=float, default=8.0, help="requests a second on each site (8)")
    parser.add_argument("--minutes", metavar="N", type=float, default=60.0, help="visit for so long at most (60)")


def check(args: argparse.Namespace) -> None:
    """Raise VoyageError where nothing could be visited so."""
    from nostos.core.errors import VoyageError

    if args.most < 1 or not args.rate > 0 or not args.minutes > 0:
        raise VoyageError("--most, --rate and --minutes must be above nought.",
                          next_step="Leave them out, or write a number.")


def check_pictures(args: argparse.Namespace) -> None:
    """Raise SiteError where pictures are wanted, and no page to put them on."""
    from nostos.core.errors import SiteError

    if args.pictures and not args.html:
        raise SiteError("--pictures are put on a page, and none is asked for.", left="Nothing was done.",
                        next_step="Name it: --html FILE.")


def entry_arguments(parser: argparse._ActionsContainer) -> None:
    parser.add_argument("--login", metavar="USER",
                        help=f"staging asks for a name and a password: the name; the password is asked for, or read "
                             f"from {PASSWORD}")
    parser.add_argument("--cookie-file", metavar="FILE", help="staging wants a cookie: a file with the header's value")
    parser.add_argument("--any-certificate", action="store_true", help="do not check staging's certificate")


def entry(args: argparse.Namespace) -> Access:
    """How staging is entered. Raises SiteError where that cannot be read."""
    from nostos.around.trial.visit import Access
    from nostos.core.errors import SiteError

    login, cookie = None, ""
    if args.login:
        login = (args.login, staging_password())
    if args.cookie_file:
        try:
            cookie = Path(args.cookie_file).expanduser().read_text(encoding="utf-8").strip()
        except (OSError, UnicodeDecodeError) as error:
            raise SiteError(f"The cookie file {args.cookie_file} cannot be read.",
                            next_step="Check its path.") from error
        if "\n" in cookie:
            raise SiteError("The cookie file holds more than one line.", next_step="Write name=value; name=value.")
    return Access(login, cookie, args.any_certificate)
