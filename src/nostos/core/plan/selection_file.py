"""Selections as TOML files that a colleague can read and edit: what is taken, what is left, how clashes are decided."""

from __future__ import annotations

import hashlib
import json
import tomllib
from collections.abc import Iterator, Mapping
from dataclasses import field, replace
from pathlib import Path
from typing import Any

from nostos.core.anchor.names import Side
from nostos.core.compare.field_merge import Standing
from nostos.core.compare.items import Comparison, Item
from nostos.core.errors import SelectionError
from nostos.core.expressions import expression
from nostos.core.patterns import matching
from nostos.core.plan.decisions import Decision
from nostos.core.plan.prepared import PreparedMerge
from nostos.core.plan.selection import Choice
from nostos.core.private_files import write_private
from nostos.core.records import dataclass
from nostos.core.sites.site_file import read_bounded
from nostos.core.values.merging import ABSENT
from nostos.core.values.packed import pack
from nostos.core.values.structures import jsonable
from nostos.core.voyages.home import Voyage

_NUMBER = expression(r"^[\d,]+$|~(?:live|staging)\d*$")
_MOST_REMARKS, _LONGEST_REMARK = 5000, 2000


@dataclass(frozen=True)
class SelectionFile:
    """What a file says. seen: how each item stood, and a digest of it, when the file was written; the file's writer
    may have left it out. chosen_by, remarks: who chose, and what was said of items, for the history."""

    path: Path
    voyage: str
    take: tuple[str, ...]
    leave: tuple[str, ...]
    decisions: tuple[Decision, ...]
    seen: Mapping[str, str]
    chosen_by: str = ""
    remarks: Mapping[str, str] = field(default_factory=dict)

    def choice(self, comparison: Comparison) -> Choice:
        """The choice for the sites as they are now, with notes of what has changed since the file was written.

        Raises SelectionError when a clash is not the one that was decided, or when there is one that was not there.
        """
        notes: list[str] = []
        gone = {n: standing for n, standing in self.seen.items() if n not in comparison.items}
        take = [n for n in self.take if n not in gone]
        leave = [n for n in self.leave if n not in gone]
        notes += [f"{n} is the same on both sides now" for n in self.take if n in gone]
        # What was removed is nowhere now, and numbers are others once their rows are home.
        missing = tuple(n for n in (*self.take, *self.leave) if n in gone and " removed " not in gone[n]
                      and not _NUMBER.search(n.partition("/")[2]))
        kept = [d for d in self.decisions if self._holds(d, comparison, notes)]
        decided = {d.item for d in kept}
        for name in sorted(matching(comparison.items, take)):
            item = comparison.items[name]
            was, now = self.seen.get(name), seen(item)
            if was is None or was == now:
                continue
            before = was.partition(" ")[0]
            if item.standing is Standing.CLASH and before != "clash" and name not in decided:
                raise SelectionError(
                    f"{name} has become a clash since {self.path.name} was written.",
                    next_step=f"Look with `nostos compare {name}`, then decide it in the file, or leave it.")
            notes.append(f"{name} has changed since: it was {before}" + (
                f", it is {item.standing}" if before != item.standing else " and still is"))
        new = sorted(n for n in comparison.items if self.seen and n not in self.seen
                     and comparison.items[n].goes_home and not matching([n], take))
        if new:
            notes.append(f"changed in staging since, and not in the file: {', '.join(new[:6])}"
                         + (", ..." if len(new) > 6 else ""))
        sure = tuple(n for n in take if n in comparison.items)
        # A file that takes nothing means nothing; without --take, nothing would mean everything.
        return Choice(tuple(take), tuple(leave), tuple(kept), sure=sure, there=missing, notes=tuple(notes),
                      nothing=not take)

    def _holds(self, d: Decision, comparison: Comparison, notes: list[str]) -> bool:
        item = comparison.items.get(d.item)
        if item is None or item.standing is not Standing.CLASH:
            if not matching(comparison.items, [d.item]):
                notes.append(f"{d.item} clashes no more: its decision is not needed")
                return False
            return item is None
        if self.seen.get(d.item, seen(item)) != seen(item):
            raise SelectionError(
                f"{d.item} was decided for {d.side}, and has changed since {self.path.name} was written.",
                next_step=f"Look with `nostos compare {d.item}`, then write the file anew with `nostos select`.")
        return True


def seen(item: Item) -> str:
    """How an item stands, what became of it, and a digest of all that it is."""
    fields = [[f.name, str(f.standing), *(["absent"] if v is ABSENT else [jsonable(v)] for v in (
        f.merged.base, f.merged.target, f.merged.source))] for f in item.fields]
    digest = hashlib.sha256(pack([item.id, item.change, item.reason, fields])).hexdigest()[:16]
    return f"{item.standing} {item.change} {digest}"


def read(path: Path) -> SelectionFile:
    """Read a selection. Raises SelectionError with what is wrong in it."""
    if not path.is_file():
        raise SelectionError(f"There is no selection at {path}.", next_step="`nostos select --save FILE` writes one.")
    try:
        data = tomllib.loads(read_bounded(path).decode())
        part = data["selection"]
        take, leave = (_strings(part.get(k, []), k) for k in ("take", "leave"))
        decisions = tuple(_decisions(data.get("decide", {})))
        known = {str(k): str(v) for k, v in data.get("seen", {}).items()}
        remarks = {_said(k): _said(v) for k, v in list(data.get("remarks", {}).items())[:_MOST_REMARKS]}
        return SelectionFile(path, str(part.get("voyage", "")), take, leave, decisions, known,
                             _said(part.get("chosen_by", ""))[:80], remarks)
    except (UnicodeDecodeError, tomllib.TOMLDecodeError) as error:
        raise SelectionError(f"The selection {path} cannot be read: {error}.", next_step="Mend the file.") from error
    except (KeyError, ValueError, TypeError, AttributeError) as error:
        reason = f"{error.args[0]!r} is missing" if isinstance(error, KeyError) else str(error)
        raise SelectionError(f"The selection {path} cannot be used: {reason}.",
                             next_step="`nostos select --save FILE` writes one to compare with.") from error


def _said(value: Any) -> str:
    """What somebody wrote, in words that can be shown and kept: it came from elsewhere."""
    if not isinstance(value, str):
        raise ValueError(f"{value!r} is no text")
    return _plain(value)[:_LONGEST_REMARK]


def _strings(value: Any, name: str) -> tuple[str, ...]:
    if not isinstance(value, list) or not all(isinstance(v, str) for v in value):
        raise ValueError(f"`{name}` is not a list of names")
    return tuple(value)


def _decisions(table: Any) -> Iterator[Decision]:
    for item, values in table.items():
        for part, side in (values.items() if isinstance(values, dict) else [("", values)]):
            if side not in ("live", "staging"):
                raise ValueError(f"{item!r} is decided for {side!r}; it must be \"live\" or \"staging\"")
            yield Decision(item, Side(side), part)


def write(path: Path, voyage: Voyage, prepared: PreparedMerge, when: str) -> None:
    """Write a selection to a file, private to its owner."""
    write_private(path, text(voyage, prepared, when).encode("utf-8", "backslashreplace"))


def text(voyage: Voyage, prepared: PreparedMerge, when: str) -> str:
    """A selection as TOML, with comments that say why."""
    selection, items = prepared.plan.selection, prepared.undecided
    lines = [f"# What goes home from voyage {voyage.name} to {_plain(voyage.live_name)}. Patterns such as \"page/*\" "
             "work in take and leave.", f"# Then: nostos merge {voyage.name} --selection THIS-FILE", "", "[selection]",
             f"voyage = {_quoted(voyage.name)}", f"site = {_quoted(voyage.live_name)}", f"made = {_quoted(when)}",
             "take = ["]
    for chosen in selection.chosen:
        because = chosen.because
        remark = chosen.item.title if because is None else f"{because.item} needs it: {because.reason}"
        lines.append(f"    {_quoted(chosen.item.id)},{_remark(remark)}")
    lines += ["]", "leave = ["]
    lines += [f"    {_quoted(i.id)},{_remark(i.title)}" for i in selection.left]
    lines += ["]", ""]
    by_item: dict[str, dict[str, str]] = {}
    for d in prepared.made.prefer:
        for name in sorted(matching(items, [d.item])):
            if items[name].standing is Standing.CLASH:
                by_item.setdefault(name, {})[d.field] = str(d.side)
    open_clashes = [i for i in items.values() if i.standing is Standing.CLASH and i.id not in by_item]
    if by_item or open_clashes:
        lines += ["# Each clash is for \"live\" or for \"staging\", or field by field. What is not decided stays as it "
                  "is.", "[decide]"]
    for name, fields in by_item.items():
        if "" in fields:
            lines.append(f"{_quoted(name)} = {_quoted(fields[''])}")
        else:
            inner = ", ".join(f"{_quoted(f)} = {_quoted(s)}" for f, s in fields.items())
            lines.append(f"{_quoted(name)} = {{ {inner} }}")
    for item in open_clashes:
        what = item.reason or ", ".join(f.name for f in item.fields if f.standing is Standing.CLASH)
        lines.append(f"# {_plain(_quoted(item.id))} = \"live\"{_remark(what)}")
    lines += ["", "# How each stood when this was written, so that a merge can tell what has moved since.", "[seen]"]
    lines += [f"{_quoted(i.id)} = {_quoted(seen(i))}" for i in items.values()
              if i.goes_home or i.standing is Standing.CLASH]
    return "\n".join(lines) + "\n"


def _quoted(name: str) -> str:
    return json.dumps(name, ensure_ascii=False).replace("\x7f", "\\u007f")


def _plain(value: str) -> str:
    return " ".join("".join(c if c.isprintable() else " " for c in value).split())


def _remark(remark: str) -> str:
    return f"  # {_plain(remark)}" if remark else ""


def with_voyage(file: SelectionFile, voyage: Voyage) -> SelectionFile:
    """The file, if it was made for this voyage. Raises SelectionError otherwise."""
    if file.voyage not in ("", voyage.name):
        raise SelectionError(f"The selection {file.path} was made for voyage {file.voyage}, not for {voyage.name}.",
                             next_step=f"Make one with `nostos select {voyage.name} --save FILE`.")
    return replace(file, voyage=voyage.name)
