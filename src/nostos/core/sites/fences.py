"""What of a far machine the sites of a voyage need: the helper there touches nothing else."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from contextlib import contextmanager
from pathlib import PurePosixPath

from nostos.core.hosts.connection import Fence, let_go, reach
from nostos.core.hosts.far_path import AnyPath, FarPath
from nostos.core.sites.recognise import Site

_PYTHONS = ("python3", "python")


@contextmanager
def fenced(*sites: Site) -> Iterator[None]:
    """While a block lasts, the helper on each machine that sites are on touches nothing but what is theirs."""
    fenced = []
    try:
        for host in sorted({path.host for site in sites for path in _places(site) if isinstance(path, FarPath)}):
            connection = reach(host)
            if connection.fence is None:
                connection.put_up(_fence(host, sites))
                fenced.append(connection)
        yield
    finally:
        for connection in fenced:
            let_go(connection)


def _fence(host: str, sites: Iterable[Site]) -> Fence:
    folders: set[str] = set()
    files: set[str] = set()
    programs: set[str] = set()
    commands: set[tuple[str, ...]] = set()
    for site in sites:
        here = [str(p.path) for p in _places(site) if isinstance(p, FarPath) and p.host == host]
        if not here:
            continue
        folders |= {*here, *(str(to) for to in site.files.followed.values())}
        files |= {str(p.path) for n in site.configuration_files if isinstance(p := site.home / n, FarPath)}
        question = site.profile.question
        programs |= {*_PYTHONS, *site.profile.serve[:1], *((question.program,) if question is not None else ())}
        if site.commands is not None:
            commands |= {tuple(c) for some in site.commands.named.values() for c in some}
            programs |= {PurePosixPath(word).name for word in site.commands.serve[:1]}
    servers = {server for site in sites if site.database.host == host for server in
               site.database.engine.servers(site.database)}
    return Fence(frozenset(folders), frozenset(files), frozenset(programs), frozenset(commands), frozenset(servers))


def _places(site: Site) -> Iterator[AnyPath]:
    yield site.home
    if site.has_files:
        yield site.files.at
    if site.database.file is not None:
        yield site.database.file.parent
