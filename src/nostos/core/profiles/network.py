"""Several sites in one installation: the first one's tables are known by a profile, each other's are the same tables
under a number."""

from __future__ import annotations

import re
from collections.abc import Iterable, Iterator, Mapping

from nostos.core.database.protocol import Database
from nostos.core.database.schema import Table
from nostos.core.errors import SiteError
from nostos.core.records import dataclass


@dataclass(frozen=True)
class Network:
    """How an installation keeps several sites. sites: the table with a row for each; key, domain, path: its columns.
    tables: those that each site has; the others are shared. first: the number of the site that has them without one.
    files, folder: where the first puts files, and where another does, with `{n}` for its number."""

    sites: str
    key: str
    domain: str
    path: str
    tables: frozenset[str]
    files: str
    folder: str
    first: int = 1

    def table(self, number: int, name: str) -> str:
        """What a site calls one of its tables."""
        return name if number == self.first else f"{number}_{name}"

    def numbers(self, tables: Iterable[str]) -> list[int]:
        """The further sites that have all of their tables."""
        names = set(tables)
        numbers = {int(m.group(1)) for t in names if (m := re.fullmatch(r"(\d+)_(.+)", t))
                   and m.group(2) in self.tables}
        return sorted(n for n in numbers if n != self.first and all(self.table(n, t) in names for t in self.tables))

    def site_of(self, name: str) -> int | None:
        """Which site a table is of; None: it is shared by all."""
        if name in self.tables:
            return self.first
        number, _, rest = name.partition("_")
        return int(number) if number.isdigit() and rest in self.tables else None

    def site_of_file(self, path: str) -> int | None:
        """Which site a file is of; None: it is shared by all."""
        head, _, tail = self.folder.partition("{n}")
        match = re.match(re.escape(head) + r"(\d+)" + re.escape(tail) + "/", path)
        if match:
            return int(match.group(1))
        return self.first if path.startswith(self.files + "/") else None


def kind_in(name: str, number: int, first: int) -> str:
    """What the items of a kind are called for a site: `page`, and of the second site `page@2`."""
    return name if number == first else f"{name}@{number}"


def sites(network: Network, database: Database, tables: Mapping[str, Table]) -> dict[int, str]:
    """The sites of an installation: domain and path by their numbers."""
    table = tables.get(network.sites)
    if table is None:
        return {}
    columns = (network.key, network.domain, network.path)
    return {int(str(n)): str(domain) + str(path) for n, domain, path in database.scan(table, columns)}


def outside(names: Mapping[int, str], known: Iterable[str]) -> Iterator[str]:
    """The sites, by number and address, whose hosts are none of those of these addresses (without their schemes)."""
    hosts = {name for address in known for host in [address.partition("/")[0]]
             for name in (host, host.partition(":")[0])}
    return (f"{number} {address}" for number, address in sorted(names.items())
            if address.partition("/")[0] not in hosts)


def number_of(numbers: Mapping[int, str], name: str) -> int:
    """The number of a site that is named by it, by its address, or by its path. Raises SiteError."""
    wanted = name.partition("://")[2] or name
    for number, address in numbers.items():
        path = "/" + address.partition("/")[2]
        if wanted.strip("/") in (str(number), address.strip("/"), path.strip("/") or "/") or (
                wanted == "/" and path == "/"):
            return number
    raise SiteError(f"There is no site {name} in this installation.", left="Nothing was made.", next_step=(
        "There are: " + ", ".join(f"{n} {a}" for n, a in sorted(numbers.items())) + "." if numbers else
        "It holds one site only: leave --site out."))
