"""`nostos demo`"""

from __future__ import annotations

import argparse
import os
import shlex
import tempfile
from pathlib import Path

from nostos.cli.environment import Environment, ExitStatus
from nostos.demo.story import STEPS


def arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("--into", metavar="DIR", help="a new folder to play it in (left out: a temporary one, removed)")
    parser.add_argument("--serve", action="store_true", help="stop after the merge and show both sites in a browser")
    parser.add_argument("--over-ssh", action="store_true",
                        help="both sites are on another machine, as Nostos sees it: a private ssh server here")
    parser.add_argument("--stop-at", choices=STEPS,
                        help="leave the sites and the voyage as they are after this step, to go on by hand")
    parser.epilog = ("Examples:\n  nostos demo\n  nostos demo --into /tmp/kestrel-ridge --serve\n"
                     "  nostos demo --into /tmp/kestrel-ridge --stop-at week")


def run(args: argparse.Namespace, env: Environment) -> ExitStatus:
    from nostos.core.errors import SiteError

    if args.stop_at and args.into is None:
        raise SiteError("It cannot be gone on by hand from a folder that is removed.",
                        next_step="Name a new folder with --into.")
    if args.into is None:
        with tempfile.TemporaryDirectory(prefix="nostos-demo-") as made:
            return _play(Path(made), env, args, "")
    folder = Path(args.into).expanduser().resolve()
    if folder.exists() and (not folder.is_dir() or any(folder.iterdir())):
        raise SiteError(f"The folder {folder} is not empty.", next_step="Name a new folder.")
    folder.mkdir(parents=True, exist_ok=True)
    status = _play(folder, env, args, args.stop_at or "")
    env.err.print(f"Everything is in {folder}.")
    if args.stop_at:
        env.err.print(f"Go on by hand: nostos --home {shlex.quote(str(folder / 'voyages'))} status", soft_wrap=True)
    return status


def _play(folder: Path, env: Environment, args: argparse.Namespace, stop_at: str) -> ExitStatus:
    if not args.over_ssh:
        return _scenes(folder, env, args.serve, stop_at, "")
    if args.stop_at or args.serve:
        from nostos.core.errors import SiteError

        raise SiteError("The ssh server ends with the story, so nothing can be gone on with by hand.",
                        next_step="Leave --stop-at and --serve out, or --over-ssh.")
    from nostos.core.hosts.connection import close_all
    from nostos.demo.ssh_server import HOST, SshServer

    with tempfile.TemporaryDirectory(prefix="nostos-ssh-") as made:
        server = SshServer(Path(made))
        before = os.environ.get("NOSTOS_SSH")
        os.environ["NOSTOS_SSH"] = server.command
        try:
            return _scenes(folder, env, args.serve, stop_at, HOST)
        finally:
            close_all()
            server.close()
            os.environ.pop("NOSTOS_SSH")
            if before is not None:
                os.environ["NOSTOS_SSH"] = before


def _scenes(folder: Path, env: Environment, serve: bool, stop_at: str, host: str) -> ExitStatus:
    from rich.text import Text

    from nostos.cli.main import main
    from nostos.core.errors import NostosError
    from nostos.demo.story import Story

    story = Story(folder, host=host)
    story.begin()
    for scene in story.scenes(whole=not serve):
        if scene.narration:
            env.out.print()
            env.out.print(Text(scene.narration, style="italic cyan"))
        if scene.act:
            scene.act()
        if scene.shows is not None:
            env.out.print()
            for line in scene.shows.read_text(encoding="utf-8").splitlines():
                env.out.print(Text(f"    {line}"), soft_wrap=True)
        if scene.command:
            shown = shlex.join(scene.command).replace(f"{folder}/", "")
            env.out.print(Text(f"\n$ nostos {shown}", style="bold"))
            env.stdout.flush()
            part = Environment(env.stdin, env.stdout, env.stderr, width=env.width, colour=env.colour)
            status = main([*scene.command, "--home", str(story.home)], part)
            env.stderr.flush()
            if status != scene.status:
                raise NostosError(f"The story went wrong: `nostos {shown}` ended with {status}, not {scene.status}.",
                                  next_step="Please report this.")
        if stop_at and scene.step == stop_at:
            break
    if serve:
        _serve(story.live_folder, story.staging_folder, env)
    return ExitStatus.DONE


def _serve(live: Path, staging: Path, env: Environment) -> None:
    import threading

    from nostos.core.errors import SiteError
    from nostos.demo.server import Server

    try:
        servers = [Server(live), Server(staging)]
    except OSError as error:
        raise SiteError(f"The demo's web servers cannot start: {error.strerror}.",
                        next_step="Stop whatever uses ports 8431 and 8432, then try again.") from error
    for server in servers:
        server.start()
    env.out.print(f"\nLive:    {servers[0].renderer.site.address}\nStaging: {servers[1].renderer.site.address}\n"
                  "Stop with Ctrl-C.")
    try:
        threading.Event().wait()
    except KeyboardInterrupt:
        for server in servers:
            server.shutdown()
