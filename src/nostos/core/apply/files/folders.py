"""A folder that is switched as one: staged beside the old one, exchanged with it, and what live itself wrote meanwhile
carried over.

Files that the merge does not touch get a second name in the new folder, so that what live writes into them (a log, a
cache) is in both. Only the files that the merge touches must be as they were; whatever else came, went or was replaced
on live comes along later.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from contextlib import suppress
from dataclasses import field
from pathlib import Path
from typing import Any

from nostos.core.files.tree import FileTree, Owner, Signature
from nostos.core.private_files import write_private
from nostos.core.records import dataclass
from nostos.core.values.packed import squeeze, unsqueeze

State = tuple[int, int, int]  # inode, size, time of change in ns


@dataclass
class FolderRecord:
    """What was there when folders were staged, on disk: by target, for each path what it was there and as staged."""

    rest: dict[str, dict[str, tuple[State, State]]]

    def write(self, place: Path) -> None:
        if self.rest:
            write_private(place, squeeze({t: {p: [list(a), list(b)] for p, (a, b) in rest.items()}
                                          for t, rest in self.rest.items()}))

    @classmethod
    def read(cls, place: Path) -> FolderRecord:
        if not place.is_file():
            return cls({})
        return cls({t: {p: (_state(a), _state(b)) for p, (a, b) in rest.items()}
                    for t, rest in unsqueeze(place.read_bytes()).items()})


def _state(state: Sequence[int]) -> State:
    inode, size, time = state
    return inode, size, time


@dataclass
class FolderSwitch:
    """puts: what comes, by its path in the folder, with its digest (an empty folder's too). removals: what goes."""

    tree: FileTree
    target: str
    staged: str
    aside: str
    puts: Mapping[str, bytes | None]
    removals: frozenset[str]
    rest: dict[str, tuple[State, State]] = field(default_factory=dict)
    _touched: dict[str, Signature | None] = field(default_factory=dict)

    def record(self) -> dict[str, Any]:
        """What will happen to the folder, as data for the journal."""
        return {"puts": {p: d.hex() if d else None for p, d in self.puts.items()}, "removals": sorted(self.removals)}

    @classmethod
    def recorded(cls, tree: FileTree, target: str, staged: str, aside: str, data: Mapping[str, Any],
                 kept: FolderRecord) -> FolderSwitch:
        return cls(tree, target, staged, aside, {p: bytes.fromhex(d) if d else None for p, d in data["puts"].items()},
                   frozenset(data["removals"]), dict(kept.rest.get(target, {})))

    def _is_touched(self, rest: str) -> bool:
        return rest in self.puts or rest in self.removals

    # --- staging

    def copy_rest(self, source: FileTree) -> None:
        """Make the new folder with everything that the merge does not touch. source: the tree that what comes is from.
        """
        tree = self.tree
        self._touched = {r: tree.signature(f"{self.target}/{r}") for r in (*self.puts, *self.removals)}
        model = self.target if tree.is_folder(self.target) else ""
        info = tree.status(model) if model else source.status(self.target)
        mode = 0o755 if info is None else info.rights
        tree.make_folder(self.staged, mode, tree.owner(model) if model else None)
        for rest, on_target in self._below(self.target):
            if not self._is_touched(rest):
                with suppress(FileNotFoundError):  # gone this moment
                    self._take(f"{self.target}/{rest}", f"{self.staged}/{rest}", on_target)
                    if not on_target.is_folder:
                        self._note(rest, on_target)

    def _take(self, path: str, place: str, status: Any) -> None:
        if status.is_folder:
            with suppress(FileExistsError):
                self.tree.make_folder(place, status.rights, self.tree.owner(path))
        elif status.is_file or status.is_link:
            self.tree.again(path, place)

    def _note(self, rest: str, status: Any) -> None:
        made = self.tree.status(f"{self.staged}/{rest}")
        if made is not None:
            self.rest[rest] = (_of(status), _of(made))

    def _below(self, folder: str) -> Iterator[tuple[str, Any]]:
        for path, info in self.tree.walk(folder):
            yield path[len(folder) + 1:], info

    def make_parents(self, rest: str, source: FileTree) -> None:
        """The folders above what comes, with the rights that they have on live, or where it comes from."""
        def rights(folder: str) -> tuple[int, None]:
            at_target = self.target + folder[len(self.staged):]
            model = self.tree.status(at_target) or source.status(at_target)
            return 0o755 if model is None else model.rights, None

        self.tree.make_above(f"{self.staged}/{rest}", rights)

    def close_up(self, removals: Sequence[tuple[str, bool]]) -> None:
        """Remove the folders that lost their last file, the whole of it too, and flush what was staged. removals: what
        goes, and whether it is a folder itself."""
        for rest, is_folder in removals:
            parent = rest if is_folder else rest.rpartition("/")[0]
            while parent and self.tree.remove_empty(f"{self.staged}/{parent}"):
                parent = parent.rpartition("/")[0]
        if not self.tree.remove_empty(self.staged):
            for path, info in list(self.tree.walk(self.staged)):
                if info.is_folder:
                    self._times(path)
                    self.tree.sync(path)
            self._times(self.staged)
            self.tree.sync(self.staged)

    def _times(self, path: str) -> None:
        status = self.tree.status(self.target + path[len(self.staged):])
        if status is not None:
            self.tree.times(path, status)

    # --- switching

    def catch_up(self) -> None:
        """Bring the staged folder up with live's."""
        if self.tree.is_folder(self.staged) and self.tree.is_folder(self.target):
            self._carry(self.target, self.staged)

    def go(self) -> str | None:
        """Put the new folder in the old one's place. Returns a path in it that the merge touches and that is not as it
        was when it was staged: then all has to be taken back."""
        tree = self.tree
        comes, had = tree.is_folder(self.staged), tree.status(self.target) is not None
        if had and comes and tree.exchange(self.staged, self.target):
            tree.move(self.staged, self.aside)
        else:
            if had:
                tree.move(self.target, self.aside)
            if comes:
                tree.move(self.staged, self.target)
        return next((r for r, seen in self._touched.items() if tree.signature(f"{self.aside}/{r}") != seen), None)

    def _old(self, fresh: int | None) -> str:
        """Where the old folder is, once it is not in its place; empty: nowhere."""
        if self.tree.is_folder(self.aside):
            return self.aside
        info = self.tree.status(self.staged)
        return self.staged if info is not None and fresh is not None and info.inode != fresh else ""

    def forward(self, fresh: int | None) -> None:
        """After a commit: go, where what comes is staged still."""
        info, aside = self.tree.status(self.staged), self.tree.is_folder(self.aside)
        if info is None or fresh is None:
            return
        if info.inode != fresh:
            if not aside:
                self.tree.move(self.staged, self.aside)
        elif not aside:
            self.go()
        elif self.tree.status(self.target) is None:
            self.tree.move(self.staged, self.target)

    def back(self, fresh: int | None, began: bool, had: bool) -> list[str]:
        """Put the old folder back in its place. fresh: the new one's inode. Returns the paths of what live itself has
        changed in the new one, which stays as live has it."""
        tree, carried = self.tree, []
        old = self._old(fresh) if began else ""
        info = tree.status(self.target)
        if began and info is not None and info.inode == fresh:
            if old:
                if not tree.exchange(old, self.target):
                    tree.move(self.target, self.staged)
                    tree.move(old, self.target)
                    old = self.staged
                carried = self._carry_back(old)
            elif not had:
                carried = self._leave_others()
        elif old and info is None and (fresh is None or tree.status(self.staged) is not None):
            tree.move(old, self.target)  # else live itself has removed the new one since
        self._clear()
        return carried

    def _clear(self) -> None:
        """Remove what is not needed any more. The old folder gets another name first: cut short in the middle, it must
        not pass for one in which live itself has removed files."""
        doomed = self.aside + "x"
        if self.tree.status(self.aside) is not None:
            self.tree.remove(doomed)
            self.tree.move(self.aside, doomed)
            self.tree.sync(self.target.rpartition("/")[0])
        for place in (doomed, self.staged, self.aside + "c", self.staged + "c"):
            self.tree.remove(place)

    def tidy(self) -> list[str]:
        """After the merge: take along what live wrote late into the old folder. Returns its paths."""
        carried = []
        if self.tree.is_folder(self.aside) and self.tree.is_folder(self.target):
            carried = self._carry(self.aside, self.target)
        self._clear()
        return carried

    # --- what live itself wrote

    def _carry(self, source: str, target: str) -> list[str]:
        """From live's folder, or from the one that was live's, into the new one: whatever came, went or was replaced
        since it was staged."""
        carried = []
        seen = set()
        for rest, on_target in list(self._below(source)):
            seen.add(rest)
            if self._is_touched(rest):
                continue
            if on_target.is_folder:
                if not self._removed_with(rest) and self._late_folder(source, rest):
                    self._take(f"{source}/{rest}", f"{target}/{rest}", on_target)
                continue
            now, was = _of(on_target), self.rest.get(rest)
            status = self.tree.status(f"{target}/{rest}")
            if was is not None and (now == was[0] or (status is not None and status.inode == on_target.inode)):
                continue
            if status is None and was is None:
                self._parents(source, target, rest)
                with suppress(FileNotFoundError, FileExistsError):
                    self.tree.again(f"{source}/{rest}", f"{target}/{rest}")
                    carried.append(f"{self.target}/{rest}")
            elif status is not None and was is not None and _of(status) == was[1]:
                self._replace(f"{source}/{rest}", f"{target}/{rest}")
                carried.append(f"{self.target}/{rest}")
            self._remember(rest, source, target)
        for rest in [r for r in self.rest if r not in seen]:
            status = self.tree.status(f"{target}/{rest}")
            if status is not None and status.inode == self.rest[rest][1][0]:
                self.tree.remove(f"{target}/{rest}")
                carried.append(f"{self.target}/{rest}")
            del self.rest[rest]
        self._flush(target, carried)
        return carried

    def _remember(self, rest: str, source: str, target: str) -> None:
        at_target, status = self.tree.status(f"{source}/{rest}"), self.tree.status(f"{target}/{rest}")
        if at_target is not None and status is not None:
            self.rest[rest] = (_of(at_target), _of(status))

    def _late_folder(self, source: str, rest: str) -> bool:
        """Whether a folder holds nothing that the merge removes: then it is not one that goes with its last file."""
        return not any(p.startswith(rest + "/") for p in (*self.removals, *self.puts))

    def _removed_with(self, rest: str) -> bool:
        return any(rest == r or rest.startswith(r + "/") for r in self.removals)

    def _parents(self, source: str, target: str, rest: str) -> None:
        def rights(folder: str) -> tuple[int, Owner]:
            on_source = source + folder[len(target):]
            info = self.tree.status(on_source)
            return 0o755 if info is None else info.rights, self.tree.owner(on_source)

        self.tree.make_above(f"{target}/{rest}", rights)

    def _flush(self, target: str, carried: Sequence[str]) -> None:
        """What was carried over is on the disk before the folder that it came from goes."""
        rests = [path[len(self.target) + 1:] for path in carried]
        for folder in {"/".join(r.split("/")[:n]) for r in rests for n in range(r.count("/") + 1)}:
            self.tree.sync(f"{target}/{folder}" if folder else target)

    def _replace(self, path: str, place: str) -> None:
        """Put a second name of something in the place of what is there."""
        draft = f"{self.aside}c" if place.startswith(self.target + "/") else f"{self.staged}c"
        self.tree.remove(draft)
        with suppress(FileNotFoundError):
            self.tree.again(path, draft)
            self.tree.move(draft, place)
            self.tree.remove(draft)  # two names of one file are not renamed into each other

    def _carry_back(self, new: str) -> list[str]:
        """From the new folder, which visitors saw for a while, into the old one."""
        carried = []
        seen = set()
        for rest, on_target in list(self._below(new)):
            seen.add(rest)
            status = self.tree.status(f"{self.target}/{rest}")
            if on_target.is_folder:
                continue
            was = self.rest.get(rest)
            if rest in self.puts:
                entry = self.tree.entry(f"{new}/{rest}", digest=True)
                ours = entry is not None and entry.digest == self.puts[rest]
            else:
                ours = (status is not None and status.inode == on_target.inode) or (was is not None
                                                                                    and _of(on_target) == was[1])
            if ours:
                continue
            if status is None:
                self._parents(new, self.target, rest)
                self.tree.move(f"{new}/{rest}", f"{self.target}/{rest}")
            else:
                self._replace(f"{new}/{rest}", f"{self.target}/{rest}")
            carried.append(f"{self.target}/{rest}")
        for rest, (was_there, _) in self.rest.items():
            status = self.tree.status(f"{self.target}/{rest}")
            if rest not in seen and status is not None and status.inode == was_there[0]:
                self.tree.remove(f"{self.target}/{rest}")
                carried.append(f"{self.target}/{rest}")
        self._flush(self.target, carried)
        return carried

    def _leave_others(self) -> list[str]:
        """Remove from a folder that is wholly new what came with the merge; what live has put there since stays."""
        left = []
        for rest, names in reversed(list(self._below(self.target))):
            path = f"{self.target}/{rest}"
            if names.is_folder:
                self.tree.remove_empty(path)
                continue
            entry = self.tree.entry(path, digest=True)
            if entry is not None and rest in self.puts and entry.digest == self.puts[rest]:
                self.tree.remove(path)
            elif entry is not None:
                left.append(path)
        self.tree.remove_empty(self.target)
        return left


def _of(info: Any) -> State:
    return info.inode, info.size, info.modified
