"""The file side of a merge: staged beside the targets, renamed into place together, taken back together if anything
fails.

What is going to happen is known, as data, before anything is touched, so that it can be journaled; and taking it back
looks at what is there, so that it works from any point at which it was cut short, by this process, by another, or by
a power cut that forgot whatever was not flushed.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from pathlib import Path
from typing import Any

from nostos.core.anchor.names import Side
from nostos.core.apply.files.folders import FolderRecord, FolderSwitch
from nostos.core.apply.files.staging import Move, Staging
from nostos.core.errors import TargetMoved
from nostos.core.files.tree import ANYTHING, Call, FileTree


class Switch(Staging):
    """Nothing is visible on live until `go`; `back` takes it all back."""

    # --- as data

    def record(self) -> dict[str, Any]:
        """What will happen, as data for the journal."""
        def line(digest: bytes | None) -> str | None:
            return digest.hex() if digest else None

        return {"moves": [[m.target, m.staged, m.aside, m.had, line(m.old), line(m.new), m.folder] for m in self.moves],
                "makes": self.makes, "empties": self.empties, "modes": [list(m) for m in self.modes],
                "folders": {t: f.record() for t, f in self.folders.items()}}

    @classmethod
    def recorded(cls, target: FileTree, source: FileTree, mark: str, side: Side, record: Mapping[str, Any], kept: Path,
                 fresh: Mapping[str, int]) -> Switch:
        """The switch that a journal speaks of. kept: where `keep_record` has left what it knows. fresh: what the
        journal says of that. Paths that leave the tree are refused when they are used."""
        moves = [Move(t, s, a, had, bytes.fromhex(old) if old else None, bytes.fromhex(new) if new else None, folder)
                 for t, s, a, had, old, new, folder in record["moves"]]
        places = {m.target: (m.staged or "", m.aside) for m in moves}
        held = FolderRecord.read(kept)
        folders = {t: FolderSwitch.recorded(target, t, *places[t], data, held) for t, data in record["folders"].items()}
        return cls(target, source, mark, side, moves, list(record["makes"]), list(record["empties"]),
                   [(p, new, old) for p, new, old in record["modes"]], dict(fresh), folders)

    # --- switching

    def go(self) -> None:
        """Rename everything into place, and flush that. Raises TargetMoved when something there is not as it was when
        it was staged; then `back` takes back what was done.

        Before: all of it lies beside its targets, flushed and in the journal, and what it replaces is known by its
        signature. After: each path is the old file or the new one, never between; a crash leaves some of each, which
        `back` or `forward` makes one, by the journal alone. The caller's transaction is full but not committed.
        """
        plain = [m for m in self.moves if not m.folder]
        self._do([(m, Call("signature", (m.target,), self._seen[m.target])) for m in plain])
        for path, mode, _ in self.modes:
            self.target.give(path, self.target.owner(path), mode)
        waiting: list[Move] = []
        for move in self.moves:
            if move.folder:
                self._go(waiting)
                waiting = []
                self._go_folder(self.folders[move.target])
            else:
                waiting.append(move)
        self._go(waiting)
        self._sync()

    def _go(self, moves: Sequence[Move]) -> None:
        """Bring some files into place, one after the other."""
        done = self._do([(m, call) for m in moves for call in self._calls(m)])
        if done is None:
            return
        # Two things cannot be changed for each other in one step here.
        for move in moves[moves.index(done):]:
            if move.staged is None or not move.had:
                self._do([(move, call) for call in self._calls(move)])
                continue
            self.target.again(move.target, move.aside)
            self._do([(move, Call("signature", (move.target,), self._seen[move.target]))])
            self.target.move(move.staged, move.target)

    def _calls(self, move: Move) -> Iterator[Call]:
        if move.staged is None:
            yield Call("move", (move.target, move.aside))
        elif not move.had:
            yield Call("move_new", (move.staged, move.target))
            return
        else:
            yield Call("exchange", (move.staged, move.target), True)
            yield Call("move", (move.staged, move.aside))
        yield Call("signature", (move.aside,), self._seen[move.target])

    def _do(self, calls: Sequence[tuple[Move, Call]]) -> Move | None:
        """Do one thing after another. Returns the move that stopped at an exchange that cannot be had here. Raises
        TargetMoved where something is not as it was."""
        try:
            answers = self.target.in_order([call for _, call in calls])
        except FileExistsError:
            new = [m.target for m, _ in calls if m.staged and not m.had and self.target.status(m.staged) is not None]
            raise self._moved(new[0] if new else calls[0][0].target) from None
        if not answers or (len(answers) == len(calls) and calls[-1][1].expected in (ANYTHING, answers[-1])):
            return None
        move, call = calls[len(answers) - 1]
        if call.name == "exchange":
            return move
        raise self._moved(move.target)

    def _go_folder(self, work: FolderSwitch) -> None:
        path = work.go()
        if path is not None:
            raise self._moved(f"{work.target}/{path}")

    def _moved(self, path: str) -> TargetMoved:
        return TargetMoved(f"{self.side.capitalize()}'s {path} has changed meanwhile.", next_step="Compare again.")

    def forward(self) -> None:
        """After a commit: bring what is still staged into place, unless live has changed what is there since."""
        for move in self.moves:
            if move.folder:
                self.folders[move.target].forward(self.fresh.get(move.target))
            elif move.staged is not None and self._is_fresh(move, move.staged):
                entry = self.target.entry(move.target, digest=True)
                if (entry is None and not move.had) or (entry is not None and entry.digest == move.old):
                    if entry is not None and self.target.status(move.aside) is None:
                        self.target.again(move.target, move.aside)
                    self.target.move(move.staged, move.target)
        self._sync()

    # --- taking back, tidying up

    def back(self, began: bool = True) -> None:
        """Put everything back as it was, and leave nothing behind, from wherever it stands. began: whether `go` may
        have. What live itself has changed since stays as live has it."""
        for path, new, old in reversed(self.modes) if began else ():
            info = self.target.status(path)
            if info is not None and info.rights == new:
                self.target.give(path, self.target.owner(path), old)
        for move in reversed(self.moves):
            if move.folder:
                self.carried += self.folders[move.target].back(self.fresh.get(move.target), began, move.had)
            else:
                self._back(move, began)
        for folder in reversed(self.makes):
            self.target.remove_empty(folder)
        self._sync()

    def _back(self, move: Move, began: bool) -> None:
        if began:
            old = self._old_place(move)
            exists = self.target.status(move.target) is not None
            if move.staged is None:
                if old and not exists:
                    self.target.move(old, move.target)
            elif exists and self._is_fresh(move, move.target) and not self._is_fresh(move, move.staged):
                if old:
                    self.target.move(old, move.target)
                elif not move.had:
                    self.target.remove(move.target)
        self.target.remove(move.aside)
        if move.staged is not None:
            self.target.remove(move.staged)

    def _old_place(self, move: Move) -> str:
        """Where what was replaced is now, apart from the target; empty: nowhere."""
        if self.target.status(move.aside) is not None:
            return move.aside
        if move.staged is not None and move.had and self.target.status(move.staged) is not None and not self._is_fresh(
                move, move.staged):
            return move.staged
        return ""

    def _is_fresh(self, move: Move, path: str) -> bool:
        """Whether what is at a path is what came. An inode alone may have been given out again."""
        info = self.target.status(path)
        if info is None or info.is_folder:
            return info is not None and info.inode == self.fresh.get(move.target)
        entry = self.target.entry(path, digest=True)
        if entry is None or entry.digest != move.new:
            return False
        # Where what came equals what was there, only the inode tells them apart.
        return move.old != move.new or info.inode == self.fresh.get(move.target, info.inode)

    def tidy(self) -> None:
        """Remove what was put aside, and the folders that lost their last file, once the merge is sure. What live
        itself wrote meanwhile into a folder that was switched is taken along before."""
        gone: list[str] = []
        for move in self.moves:
            if move.folder:
                self.carried += self.folders[move.target].tidy()
                continue
            gone += [move.aside, *([move.staged] if move.staged is not None else ())]
        self.target.in_order([Call("remove", (path,)) for path in gone])
        for folder in self.empties:
            self.target.remove_empty(folder)
        self._sync()

    def written(self) -> Iterator[tuple[str, str]]:
        """The paths in the tree of what comes, and where it is staged now; before `go`."""
        for move in self.moves:
            if move.folder:
                for rest in self.folders[move.target].puts:
                    yield f"{move.target}/{rest}", f"{move.staged}/{rest}"
            elif move.staged is not None:
                yield move.target, move.staged
