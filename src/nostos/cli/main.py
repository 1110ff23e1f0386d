"""The command `nostos`: one verb a step."""

from __future__ import annotations

import argparse
import os
import sys
import time
from importlib import import_module
from pathlib import Path

from nostos import __version__
from nostos.cli.environment import Environment, ExitStatus

VERBS = {
    "survey": "look a site over before anything is touched",
    "learn": "work out what a site's tables mean, and answer what is not known",
    "clone": "make a staging copy of a live site",
    "status": "voyages at a glance",
    "trial": "visit every public page on both sites, and say what broke",
    "versions": "core, extensions and themes on both sides",
    "compare": "what each side changed since the clone",
    "select": "choose what goes home, and write it to a file",
    "rehearse": "carry a merge out on a fresh copy of live, and visit it",
    "merge": "bring chosen changes home to live",
    "refresh": "bring live's changes into staging",
    "undo": "take a merge back, keeping what live gained since",
    "backup": "a whole copy of a site in one file",
    "restore": "a backup back in its place, or single things out of it",
    "recover": "finish or take back what a crash interrupted",
    "tide": "when live is quiet, by hour of the week",
    "history": "every operation, and how it ended",
    "retire": "remove a staging copy and everything made for it",
    "demo": "play the whole story on made-up data",
}


_COMMON = ("--home", "--json", "--debug")  # what every verb takes


class _Parser(argparse.ArgumentParser):
    """A parser whose errors end with a hint, and whose help keeps its lines."""

    def __init__(self, *args: object, **options: object) -> None:
        options.setdefault("formatter_class", argparse.RawDescriptionHelpFormatter)
        super().__init__(*args, **options)  # type: ignore[arg-type]


class _Completion(argparse.Action):
    """Prints a shell's code for completing, and ends."""

    def __call__(self, parser: argparse.ArgumentParser, _: object, values: object, __: str | None = None) -> None:
        from argcomplete.shell_integration import shellcode

        sys.stdout.write(shellcode(["nostos"], shell=str(values)))
        parser.exit()


def parser(verb: str | None = None) -> _Parser:
    """The command line's parser. Only the wanted verb's module is imported, so that help feels instant."""
    top = _Parser(
        prog="nostos",
        description="Clone a live site into staging, try changes there, bring the chosen ones home.\n"
                    "Everything that live gained meanwhile stays.",
        epilog="A first voyage:\n"
               "  nostos survey /srv/www/site\n"
               "  nostos clone /srv/www/site autumn --into /srv/www/staging --url https://staging.example\n"
               "  nostos compare autumn\n"
               "  nostos merge autumn\n\n"
               "Exit status: 0 done, 1 done but look, 2 wrong command line, 3 refused and nothing changed,\n"
               "4 interrupted part-way.")
    top.add_argument("--version", action="version", version=f"nostos {__version__}")
    top.add_argument("--completion", metavar="SHELL", choices=("bash", "zsh", "fish"), action=_Completion,
                     help="print what a shell needs to complete commands: bash, zsh or fish")
    common = _Parser(add_help=False)
    common.add_argument("--home", metavar="DIR", help="where voyages are kept (or NOSTOS_HOME)")
    common.add_argument("--json", action="store_true", help="results as JSON, for programs")
    common.add_argument("--debug", action="store_true", help="show the traceback of an error")
    verbs = top.add_subparsers(dest="verb", metavar="VERB", required=True, parser_class=_Parser)
    for name, summary in VERBS.items():
        sub = verbs.add_parser(name, help=summary, description=summary[0].upper() + summary[1:] + ".", parents=[common])
        if name == verb:
            import_module(f"nostos.cli.verbs.{name}").arguments(sub)
    return top


def parsed(argv: list[str]) -> argparse.Namespace:
    """A command line, with options in any place: before the verb, between items, after them. Raises SystemExit."""
    at = 0
    while at < len(argv) and argv[at].split("=")[0] in _COMMON:
        at += 2 if argv[at] == "--home" else 1
    verb = argv[at] if at < len(argv) and argv[at] in VERBS else next((a for a in argv if a in VERBS), None)
    top = parser(verb)
    rest = [*argv[:at], *argv[at + 1:]]
    if at >= len(argv) or argv[at] != verb or "--" in rest:
        return top.parse_args(argv)
    verbs = next(a for a in top._actions if isinstance(a, argparse._SubParsersAction))
    args: argparse.Namespace = verbs.choices[verb].parse_intermixed_args(rest)
    args.verb = verb
    return args


def main(argv: list[str], environment: Environment | None = None) -> int:
    """Run one command. Returns the exit status."""
    env = environment or Environment()
    try:
        args = parsed(argv)
    except SystemExit as stop:
        return int(stop.code or 0)
    env.json, env.debug = args.json, args.debug
    if args.verb in ("merge", "undo", "refresh"):
        env.carrying_out = (args.voyage or "*", time.time())
    home = args.home or os.environ.get("NOSTOS_HOME")
    env.home = Path(home).expanduser().resolve() if home else env.home
    from nostos.core.errors import HostLost, NostosError

    try:
        return int(import_module(f"nostos.cli.verbs.{args.verb}").run(args, env))
    except HostLost as error:
        if env.debug:
            raise
        return _stopped(env, error.what, "See that it can be reached, then run `nostos recover`, which takes away what "
                        "a cut left there, and the command again.")
    except NostosError as error:
        if env.debug:
            raise
        _tell(env, error.what, error.left, error.next_step)
        return error.status
    except KeyboardInterrupt:
        return _stopped(env, "Stopped by you.", "Run the command again when you like.")
    except BrokenPipeError:
        sys.stderr.close()
        return ExitStatus.DONE
    except OSError as error:
        if env.debug:
            raise
        return _stopped(env, f"{error.strerror or error}{f': {error.filename}' if error.filename else ''}.",
                        "Free some space, or see to your rights there, then run it again.")
    except Exception as error:
        if env.debug:
            raise
        return _stopped(env, f"Nostos met something it does not know: {type(error).__name__}: {error}.",
                        "Run it again with --debug, and report what it shows.")


def _stopped(env: Environment, what: str, next_step: str) -> int:
    """Tell of a command that did not come to its end, and of what it left: that is looked up, not promised."""
    from nostos.core.voyages.home import Home
    from nostos.core.voyages.journal import carried_out, unfinished

    home = Home(env.home).path
    try:
        half = [v for v in sorted((home / "voyages").glob("*/")) if unfinished(v)]
        restores = unfinished(home, "restores")
        name, since = env.carrying_out or ("", 0.0)
        whole = name != "" and any(carried_out(v, since) for v in sorted((home / "voyages").glob(f"{name}/")))
    except OSError as error:
        _tell(env, what, f"Whether something was left half-way cannot be told: {error.strerror or error}.",
              "Run `nostos recover` when that is mended.")
        return ExitStatus.INTERRUPTED
    if half or restores:
        names = ", ".join(v.name for v in half) or "a restore"
        _tell(env, what, f"An operation is unfinished ({names}).",
              "Run `nostos recover`: it finishes it or takes it back.")
        return ExitStatus.INTERRUPTED
    if whole:
        _tell(env, what, "What it did was carried out before, whole.", "`nostos history` tells of it.")
        return ExitStatus.LOOK
    _tell(env, what, "No operation is half-way: no journal here is open.", next_step)
    return ExitStatus.REFUSED


def _tell(env: Environment, what: str, left: str, next_step: str) -> None:
    """An error in three lines: what is wrong, what was left as it was, what to do next."""
    from nostos.core.patterns import clean

    if env.json:
        import json

        env.stdout.write(json.dumps({"error": what, "left": left, "next": next_step}, ensure_ascii=False) + "\n")
    env.stdout.flush()
    message = f"nostos: {what}\n        {left}\n" + (f"        Next: {next_step}\n" if next_step else "")
    env.stderr.write(clean(message))


def run() -> None:
    """The console script's entry."""
    if "_ARGCOMPLETE" in os.environ:
        from nostos.cli.completing import complete

        complete(parser, VERBS)
    _stop_like_control_c()
    sys.exit(main(sys.argv[1:]))


def _stop_like_control_c() -> None:
    """Let whoever ends this process, or closes its terminal, have what was under way taken back first."""
    import signal

    def stop(number: int, _: object) -> None:
        raise KeyboardInterrupt(signal.Signals(number).name)

    for name in ("SIGTERM", "SIGHUP"):
        wanted = getattr(signal, name, None)
        if wanted is not None and signal.getsignal(wanted) is not signal.SIG_IGN:
            signal.signal(wanted, stop)
