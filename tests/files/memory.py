"""A file tree in memory: no path of this machine leads into it, so whatever goes round the protocol finds nothing."""

from __future__ import annotations

import errno
import hashlib
import os
from collections.abc import Callable, Iterable, Iterator, Sequence
from contextlib import contextmanager
from dataclasses import dataclass, replace
from itertools import count
from pathlib import Path

from nostos.core.errors import SiteError
from nostos.core.files.entry import OWN_PREFIX, FileEntry, digest_of
from nostos.core.files.tree import CopiedFile, FileTree, Owner, SkippedFile, Status, checked
from nostos.core.hosts.far_path import AnyPath
from nostos.core.patterns import matches

ME = Owner(os.geteuid(), os.getegid())


@dataclass
class Node:
    kind: str
    content: bytes
    rights: int
    inode: int
    time: int
    changed: int
    owner: Owner = ME


class Reading:
    def __init__(self, node: Node) -> None:
        self.node, self.at = node, 0

    def read(self, most: int = -1, /) -> bytes:
        end = len(self.node.content) if most < 0 else self.at + most
        piece, self.at = self.node.content[self.at:end], end
        return piece

    def status(self) -> Status:
        return status(self.node)


def status(node: Node) -> Status:
    return Status(node.kind, node.rights, len(node.content), node.inode, node.time, node.changed, node.owner.user,
                  node.owner.group, node.time)


class MemoryTree(FileTree):
    def __init__(self, name: str) -> None:
        self.name = name
        self.not_given = []
        self.meant = {}
        self.nodes: dict[str, Node] = {}
        self.clock = count(1_000_000_000)

    @property
    def where(self) -> str:
        return f"memory:{self.name}"

    @property
    def at(self) -> AnyPath:
        return Path(self.where)

    def within(self, place: AnyPath) -> str | None:
        return str(place)[len(self.where):].strip("/") if str(place).startswith(self.where) else None

    def make_root(self) -> None:
        return

    def _node(self, path: str) -> Node:
        node = self.nodes.get(path)
        if node is None:
            raise FileNotFoundError(errno.ENOENT, "No such file", path)
        return node

    def _add(self, path: str, kind: str, content: bytes, rights: int, owner: Owner | None) -> Node:
        parent = "/".join(checked(path)[:-1])
        if path in self.nodes:
            raise FileExistsError(errno.EEXIST, "File exists", path)
        if parent and self._node(parent).kind != "folder":
            raise NotADirectoryError(errno.ENOTDIR, "Not a directory", path)
        now = next(self.clock)
        self.nodes[path] = Node(kind, content, rights, now, now, now, owner or ME)
        return self.nodes[path]

    def status(self, path: str) -> Status | None:
        if not path:
            return Status("folder", 0o755, 0, 1, 1, 1, ME.user, ME.group)
        return status(self.nodes[path]) if path in self.nodes else None

    def names(self, path: str) -> list[str]:
        head = f"{path}/" if path else ""
        return sorted(p[len(head):] for p in self.nodes if p.startswith(head) and "/" not in p[len(head):])

    def link(self, path: str) -> str:
        return self._node(path).content.decode()

    @contextmanager
    def opened(self, path: str) -> Iterator[Reading]:
        node = self._node(path)
        if node.kind != "file":
            raise SiteError(f"{path} is no file.")
        yield Reading(replace(node))

    def scan(self, apart: Iterable[str], ignore: Iterable[str], passed: Callable[[SkippedFile], None] = lambda _: None
             ) -> Iterator[FileEntry]:
        out, patterns = set(apart), tuple(ignore)
        for path in sorted(self.nodes):
            own = any(part.startswith(OWN_PREFIX) for part in path.split("/"))
            if not own and path not in out and not matches(path, patterns):
                found = self.entry(path)
                if found is not None:
                    yield found

    def free(self, path: str = "") -> int:
        return 1 << 40

    def may_write(self, path: str) -> bool:
        return True

    def may_give(self, owner: Owner) -> bool:
        return True

    def owner(self, path: str) -> Owner:
        return self.nodes[path].owner if path in self.nodes else ME

    def give(self, path: str, owner: Owner, mode: int | None = None) -> None:
        if path:
            node = self._node(path)
            node.owner, node.rights = owner, node.rights if mode is None else mode
            node.changed = next(self.clock)

    def make_folder(self, path: str, mode: int, owner: Owner | None = None) -> None:
        self._add(path, "folder", b"", mode, owner)

    def write(self, path: str, content: bytes, mode: int, owner: Owner | None = None) -> None:
        self._add(path, "file", content, mode, owner)

    def copy_in(self, source: FileTree, path: str, target: str, mode: int, owner: Owner | None = None) -> bytes:
        content, info = source.read(path), source.status(path)
        self._add(target, "file", content, mode, owner).time = info.modified if info else 0
        return hashlib.blake2b(content, digest_size=16).digest()

    def copy_all(self, source: FileTree, entries: Sequence[FileEntry], small: int) -> Iterator[CopiedFile]:
        for given in source.given_out(entries):
            entry, content = given.entry, b"".join(given.pieces)
            if given.error is not None or given.info is None:
                yield CopiedFile(entry, error=given.error)
                continue
            self.make_above(entry.path, lambda _: (0o700, None))
            if entry.kind == "file":
                self.write(entry.path, content, entry.mode, given.owner)
                self.times(entry.path, given.info)
            elif entry.kind == "link":
                self.make_link(entry.path, given.led, given.owner)
            else:
                self.make_folder(entry.path, entry.mode, given.owner)
            made = self.status(entry.path)
            yield CopiedFile(entry, digest_of(content) if entry.kind == "file" else entry.digest or b"",
                             (made.modified, made.changed) if made else (0, 0),
                             content if entry.kind == "file" and len(content) <= small else None)

    def make_link(self, path: str, to: str, owner: Owner | None = None) -> None:
        self._add(path, "link", to.encode(), 0o777, owner)

    def again(self, path: str, target: str) -> None:
        node = self._node(path)
        self._add(target, node.kind, b"", 0, None)
        self.nodes[target] = node  # the very same

    def move(self, path: str, target: str) -> None:
        node, there = self._node(path), self.nodes.get(target)
        if there is not None and there.kind == "folder" and (node.kind != "folder" or self.names(target)):
            raise OSError(errno.ENOTEMPTY, "Directory not empty", target)
        checked(target)
        self.nodes.pop(target, None)
        for old in [p for p in self.nodes if p == path or p.startswith(path + "/")]:
            self.nodes[target + old[len(path):]] = self.nodes.pop(old)

    def move_new(self, path: str, target: str) -> None:
        if target in self.nodes:
            raise FileExistsError(errno.EEXIST, "File exists", target)
        self.move(path, target)

    def exchange(self, one: str, other: str) -> bool:
        self._node(one), self._node(other)
        self.move(one, "\x01between")
        self.move(other, one)
        self.move("\x01between", other)
        return True

    def times(self, path: str, info: Status) -> None:
        self._node(path).time = info.modified

    def remove(self, path: str) -> None:
        for old in [p for p in self.nodes if p == path or p.startswith(path + "/")]:
            del self.nodes[old]

    def remove_empty(self, path: str) -> bool:
        if path not in self.nodes or self.names(path):
            return False
        del self.nodes[path]
        return True

    def sync(self, path: str) -> None:
        return

    @contextmanager
    def lock(self, seconds: float) -> Iterator[None]:
        yield

    # --- for the tests

    def put(self, path: str, content: str) -> None:
        """Write a file as a site's owner does, with the folders above it."""
        self.make_above(path, lambda _: (0o755, None))
        if path in self.nodes:
            now = next(self.clock)
            self.nodes[path] = replace(self.nodes[path], content=content.encode(), inode=now, time=now, changed=now)
        else:
            self.write(path, content.encode(), 0o644)

    def contents(self) -> dict[str, bytes]:
        return {p: n.content for p, n in self.nodes.items()
                if n.kind != "folder" and not p.rpartition("/")[2].startswith(OWN_PREFIX)}
