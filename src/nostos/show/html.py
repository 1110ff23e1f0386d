"""Reports as one page that needs nothing else: for a colleague or a client, on a phone, on paper, without a network.

Whatever a site holds is shown as text. The page's policy lets nothing run and nothing load but its own style and
script, which are named by their digests.
"""

from __future__ import annotations

import base64
import hashlib
import io
import json
from collections import Counter
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from dataclasses import field, replace
from difflib import SequenceMatcher
from importlib import resources
from pathlib import Path
from typing import TYPE_CHECKING, Any

import jinja2
from markupsafe import Markup

import nostos
from nostos.around.trial.compare import Judged, PageFacts, count
from nostos.core.clock import now
from nostos.core.compare.field_merge import Standing
from nostos.core.compare.naming import plain_name
from nostos.core.errors import SiteError
from nostos.core.files.entry import FileEntry, digest_of, plain_text
from nostos.core.plan.offered import Offer
from nostos.core.plan.reading_order import in_reading_order
from nostos.core.private_files import write_private
from nostos.core.records import dataclass
from nostos.core.values.merging import ABSENT
from nostos.show.comparing import Describe, fields_of_new, is_new_thing, split, value_text
from nostos.show.plain_markup import all_plain, made_plain

if TYPE_CHECKING:
    from nostos.around.rehearsal.rehearse import Rehearsal
    from nostos.around.trial.pictures import Pictured, Shots
    from nostos.around.trial.run import Trial
    from nostos.core.anchor.open_voyage import Crew
    from nostos.core.apply.ledger import Line
    from nostos.core.apply.merge import MergeResult
    from nostos.core.compare.file_changes import FileState
    from nostos.core.compare.items import Comparison, Field, Item
    from nostos.core.files.tree import FileTree
    from nostos.core.plan.needs import Needs
    from nostos.core.plan.prepared import PreparedMerge
    from nostos.core.voyages.home import Voyage

_OPENED = 12  # entries, up to which all are open at first
_MOST_FIELDS = 60
_MOST_ENTRIES = 2000  # items that are shown with all their fields
_LONGEST = 20_000  # characters of a value
_AROUND = 12  # words that stay beside a difference
_LOOKS = 0.0005  # of a picture's pixels: less is not seen
_PICTURE_SIDE = 480
_PICTURE_BYTES = 300_000
_ALL_PICTURES = 12_000_000
_FILE_BYTES = 64 << 10
_PICTURES = {".png": "PNG", ".jpg": "JPEG", ".jpeg": "JPEG", ".gif": "GIF", ".webp": "WEBP"}

Pieces = list[tuple[str, str]]  # ("del", "ins", "gap" or "", text)


@dataclass(frozen=True)
class _Entry:
    name: str
    kind: str
    standing: str
    change: str = ""
    title: str = ""
    reason: str = ""
    why: Sequence[str] = ()
    needs: Sequence[dict[str, str]] = ()
    fields: Sequence[dict[str, Any]] = ()
    pictures: Sequence[dict[str, str]] = ()
    more: str = ""
    shots: Sequence[dict[str, str]] = ()
    badge: str = ""  # what is said of how it stands, if not that
    offer: Offer | None = None
    depth: int = 0  # how deep it stands below another

    @property
    def anchor(self) -> str:
        return anchor_of(self.name)

    @property
    def offered(self) -> str:
        """What the page's script has to know of it, as JSON."""
        return json.dumps({"needs": self.offer.needs, "usual": self.offer.usual, "careful": self.offer.careful,
                           "clash": self.offer.clash, "seen": self.offer.seen}) if self.offer is not None else ""


@dataclass
class _Group:
    title: str
    entries: list[_Entry] = field(default_factory=list)
    note: str = ""


def anchor_of(name: str) -> str:
    """Where an item stands on a page."""
    return "i" + hashlib.sha256(name.encode("utf-8", "surrogateescape")).hexdigest()[:16]


class Reporter:
    """Writes reports of one voyage's comparison."""

    def __init__(self, crew: Crew, comparison: Comparison, needs: Needs, describe: Describe) -> None:
        self.crew = crew
        self._comparison = comparison
        self.needs = needs
        self.describe = describe
        self._tables = comparison.rows.every_table
        self._left = _ALL_PICTURES

    def comparison(self, path: Path, items: Sequence[Item] = (), offered: Mapping[str, Offer] | None = None,
                   pictured: Sequence[tuple[PageFacts, Shots]] = ()) -> None:
        """What goes home, what clashes, what is kept. items: only these. offered: what can be chosen on the page.
        pictured: pages, as they look on both sides."""
        voyage = self.crew.voyage
        chosen = list(items) or list(self._comparison.items.values())
        groups = [
            _Group("Would go home", note="Changed in staging by editors and administrators."),
            _Group("Clashes", note="Both sides changed these differently. A merge leaves live's, unless decided."),
            _Group("Stays in staging unless named", note="Made by visitors there, so test data."),
            _Group("Kept", note="Live's own work, which no merge touches."),
            _Group("Settled", note="Both sides made the same change.")]
        first = {Standing.CLASH: 0, Standing.BLENDED: 1, Standing.HOMEWARD: 2}  # what is looked at most
        known = {i.id for i in sorted(chosen, key=lambda i: first.get(i.standing, 3))[:_MOST_ENTRIES]}
        pages: dict[str, list[tuple[PageFacts, Shots]]] = {}
        for facts, one in pictured:
            pages.setdefault(facts.item, []).append((facts, one))
        parted: list[list[Item]] = [[] for _ in groups]
        for item in chosen:
            parted[1 if item.standing is Standing.CLASH else 4 if item.standing is Standing.SETTLED else (
                3 if item.id not in self.needs else 2 if item.visitors else 0)].append(item)
        for group, some in zip(groups, parted, strict=True):
            for over, item in in_reading_order(some, self._comparison, self.needs):
                entry = self._entry(item, brief=item.id not in known)
                name, _, side = item.id.partition("~")
                shots = [s for facts, one in pages.get(name, ()) if facts.only in ("", side or facts.only)
                         for s in _shots(one)]
                group.entries.append(replace(entry, offer=(offered or {}).get(item.id), depth=min(len(over), 3),
                                             shots=shots, badge="stays" if group is groups[2] else ""))
        names = {i.id.partition("~")[0] for i in chosen}
        groups.append(_pages([one for facts, one in pictured if facts.item not in names], ("live", "staging"),
                             "Nothing of their own changed: what changed is around them."))
        notes = [f"Not compared, for want of a key: {', '.join(self._comparison.rows.skipped)}."] if (
            self._comparison.rows.skipped) else []
        if len(chosen) > _MOST_ENTRIES:
            notes.append(f"Of {len(chosen):,} items, {_MOST_ENTRIES:,} are shown with their fields: clashes first. For "
                         "another: nostos compare, with its name.")
        write(path, f"{voyage.live_name}: what changed where", _facts(voyage), groups, notes,
              choosing={"voyage": voyage.name, "site": voyage.live_name} if offered else None)

    def merge(self, path: Path, prepared: PreparedMerge, result: MergeResult | None, shots: Sequence[Shots] = ()
              ) -> None:
        """What a merge takes home, or took (result), with its ledger. shots: live's pages before and after."""
        voyage, selection = self.crew.voyage, prepared.plan.selection
        groups = [_Group("Went home" if result else "Would go home"), _Group("Stayed", note="Could have gone."),
                  _Group("Clashes left", note="Live is as it was there.")]
        for chosen in selection.chosen:
            because = (f"{chosen.because.item} needs it: {chosen.because.reason}",) if chosen.because else ()
            groups[0].entries.append(self._entry(chosen.item, because))
        groups[1].entries += [self._entry(i) for i in selection.left]
        groups[2].entries += [self._entry(i) for i in selection.clashes]
        groups.append(_pages(shots, ("before", "after"), "Live's pages, just before and right after."))
        facts = _facts(voyage)
        lines: Sequence[Line] = ()
        if result:
            facts += [f"merge {result.id}", f"live spent {result.between * 1000:.1f} ms between two states"]
            lines = [n for n in result.ledger if n.gained or n.edited or n.removed]
        write(path, f"{voyage.live_name}: {'what was merged' if result else 'what a merge would do'}", facts, groups,
              [f"Mind: {w}." for w in selection.warnings], lines)

    def _entry(self, item: Item, why: Sequence[str] = (), brief: bool = False) -> _Entry:
        if brief:
            return _Entry(item.id, self._kind(item), str(item.standing), item.change, item.title, item.reason, why,
                          more=f"Its fields: nostos compare {self.crew.voyage.name} {item.id}")
        shown = [f for f in item.fields if not f.merged.policy.quiet]
        gone = item.change == "removed" and not item.schema
        states = {s.path: s for s in item.files}
        if is_new_thing(item):
            shown = [f for f, _ in fields_of_new(item, self.describe) if not f.merged.policy.quiet]
        fields = [] if gone else [self._field(f, states) for f in shown[:_MOST_FIELDS]]
        return _Entry(
            item.id, self._kind(item), str(item.standing), item.change, item.title, item.reason, why,
            [{"name": n.on, "anchor": anchor_of(n.on), "reason": n.reason} for n in self.needs.get(item.id, ())
             if not n.part],
            fields, list(self._pictures(item)),
            f"and {len(shown) - _MOST_FIELDS} more fields" if len(shown) > _MOST_FIELDS and not gone else "")

    def _kind(self, item: Item) -> str:
        """What a thing is, in plain words."""
        return plain_name(item.kind, self._tables) if item.kind in self._tables else item.kind.replace("-", " ")

    def _field(self, shown: Field, files: dict[str, FileState]) -> dict[str, Any]:
        merged = shown.merged
        base, live, staging = (value_text(v, self.describe)[:_LONGEST] for v in (
            merged.base, merged.target, merged.source))
        state = files.get(shown.name) or next((s for p, s in files.items() if p.endswith("/" + shown.name)), None)
        note = ""
        if state is not None:
            texts = self._texts(state)
            if texts is not None:
                base, live, staging = texts
        if state is None:
            base, live, staging = all_plain([base, live, staging])
        sides = []
        if merged.base is ABSENT and merged.target is ABSENT:
            sides = [("staging added", "", staging)]
        elif merged.base is ABSENT and merged.source is ABSENT:
            sides = [("live added", "", live)]
        elif merged.standing is Standing.SETTLED:
            sides = [("both sides", base, live)]
        else:
            sides = [(who, base, now) for who, now in (("staging", staging), ("live", live)) if now != base]
        if merged.standing is Standing.CLASH:
            note = "Both changed it differently."
        elif merged.standing is Standing.BLENDED and merged.policy.in_pieces:
            after = made_plain(value_text(merged.result, self.describe)[:_LONGEST])
            sides.append(("after a merge", after, after))
        return {"name": shown.name, "standing": str(shown.standing), "note": note,
                "differences": [{"who": who, "pieces": pieces(old, new)} for who, old, new in sides]}

    def _texts(self, state: FileState) -> tuple[str, str, str] | None:
        """The three versions of a small text file."""
        texts = []
        for entry, root in ((state.base, None), (state.target, self.crew.live.files),
                            (state.source, self.crew.staging.files)):
            if entry is None:
                texts.append("")
                continue
            if entry.kind != "file" or entry.size > _FILE_BYTES:
                return None
            raw = self.crew.anchor.text(entry.digest) if root is None else self._content(root, entry)
            text = plain_text(raw)
            if text is None:
                return None
            texts.append(text.decode()[:_LONGEST])
        return texts[0], texts[1], texts[2]

    def _content(self, root: FileTree, entry: FileEntry) -> bytes | None:
        """A file as it was compared: a merge may have put another in its place since."""
        raw = _read(root, entry)
        if raw is None or digest_of(raw) == entry.digest:
            return raw
        return self.crew.anchor.text(entry.digest)

    def _pictures(self, item: Item) -> Iterator[dict[str, str]]:
        for state in item.files:
            ending = Path(state.path).suffix.lower()
            if item.folder or (ending not in _PICTURES and ending != ".svg"):
                continue
            for caption, entry, root in (("live", state.target, self.crew.live.files),
                                         ("staging", state.source, self.crew.staging.files)):
                data = self._data(root, entry, ending) if entry is not None else ""
                yield {"caption": f"{caption}: {Path(state.path).name}", "data": data}
            return  # the other files of a picture are its sizes

    def _data(self, root: FileTree, entry: FileEntry, ending: str) -> str:
        raw = self._content(root, entry)
        if raw is None or self._left <= 0:
            return ""
        if ending == ".svg":  # as an image, a browser runs nothing in it
            data, kind = (raw, "svg+xml") if len(raw) < _PICTURE_BYTES else (b"", "")
        else:
            data, kind = _smaller(raw), "png"
        self._left -= len(data)
        return f"data:image/{kind};base64,{base64.b64encode(data).decode()}" if data else ""


def _read(root: FileTree, entry: FileEntry) -> bytes | None:
    try:
        return None if entry.size > 20 << 20 else root.read(entry.path, 20 << 20)
    except (OSError, SiteError):
        return None


def _smaller(raw: bytes) -> bytes:
    """A picture as a small PNG; nothing where it is none."""
    from PIL import Image

    try:
        with Image.open(io.BytesIO(raw), formats=tuple(_PICTURES.values())) as picture:
            if picture.width * picture.height > 60_000_000:
                return b""
            picture.thumbnail((_PICTURE_SIDE, _PICTURE_SIDE))
            out = io.BytesIO()
            picture.convert("RGBA").save(out, "PNG")
    except Exception:  # whatever is wrong with a picture, it is merely not shown
        return b""
    return out.getvalue() if out.tell() < _PICTURE_BYTES * 2 else b""


def pieces(old: str, new: str) -> Pieces:
    """Two texts as one, with what went and what came marked; long stretches that are alike are left out."""
    a, b = split(old), split(new)
    if len(a) + len(b) > 8000:  # comparing that word by word would take long
        a, b = old.splitlines(keepends=True), new.splitlines(keepends=True)
    pieces: Pieces = []
    for tag, a1, a2, b1, b2 in SequenceMatcher(None, a, b, autojunk=len(a) > 2000).get_opcodes():
        if tag == "equal":
            pieces += _equal(a[a1:a2], first=not a1, last=a2 == len(a)) if old != new else [("", "".join(a))]
            continue
        if a2 > a1:
            pieces.append(("del", "".join(a[a1:a2])))
        if b2 > b1:
            pieces.append(("ins", "".join(b[b1:b2])))
    return pieces


def _equal(words: list[str], first: bool, last: bool) -> Pieces:
    if len(words) <= 5 * _AROUND:
        return [("", "".join(words))]
    head = [] if first else [("", "".join(words[:2 * _AROUND]))]
    tail = [] if last else [("", "".join(words[-2 * _AROUND:]))]
    return [*head, ("gap", " ... "), *tail]


def write_trial(path: Path, voyage: Voyage, trial: Trial, pictured: Sequence[Pictured]) -> None:
    """A trial, page by page, with its pictures."""
    by_path = {p.path: p for p in pictured}

    def shown(page: Judged) -> dict[str, Any]:
        one = by_path.get(page.path)
        return {"more": f"{page.before:.2f} s, then {page.after:.2f} s" if page.before and page.after else "",
                "pictures": () if one is None else [{"caption": what, "data": _shot(Path(place))} for what, place in (
                    ("live", one.live), ("staging", one.staging), (f"{one.share:.1%} differs", one.difference))]}

    against = f"against staging at {trial.against}" if trial.against else "against live"
    write(path, f"{voyage.live_name}: a trial of staging", [*_facts(voyage), against], _judged(trial.pages, shown),
          _noticed(trial))


def _judged(pages: Sequence[Judged], shown: Callable[[Judged], dict[str, Any]]) -> list[_Group]:
    """Visited pages, by what became of them. shown: what more there is to see of one, as fields of its entry."""
    groups = {str(v): _Group(str(v).capitalize()) for v in count(pages)}
    for page in pages:
        groups[str(page.verdict)].entries.append(_Entry(
            page.path, page.item.partition("/")[0] or "page", str(page.verdict), "", page.item, "", page.why,
            **shown(page)))
    return list(groups.values())


def _noticed(trial: Trial | Rehearsal) -> list[str]:
    """What there is to say of all visited pages."""
    return [*(f"Around the text, {e}." for e in trial.everywhere),
            *([f"Found and not visited: {trial.left}."] if trial.left else [])]


def _shots(page: Shots, names: tuple[str, str] = ("live", "staging")) -> Iterator[dict[str, str]]:
    """The small pictures of a page. names: what was before, and what is after."""
    for who, data in zip(names, (page.before, page.after), strict=True):
        if data:
            share = f", {page.share:.1%} differs" if page.before and who == names[1] and page.share else ""
            yield {"caption": f"{who}{share}", "alt": f"{page.path}, {who}",
                   "data": f"data:image/webp;base64,{base64.b64encode(data).decode()}"}


def _pages(shots: Sequence[Shots], names: tuple[str, str], note: str) -> _Group:
    """Pages that look different."""
    differ = [s for s in shots if s.share > _LOOKS]
    same = f" {len(shots) - len(differ)} more look the same." if len(shots) > len(differ) else ""
    return _Group("Pages that look different", [
        _Entry(s.path, "page", "changed", shots=list(_shots(s, names))) for s in differ], note + same)


def write_rehearsal(path: Path, voyage: Voyage, rehearsal: Rehearsal, shots: Sequence[Shots]) -> None:
    """What a merge did on a copy of live, page by page, with pictures of the pages that look different."""
    by_path = {s.path: s for s in shots if s.share > _LOOKS}

    def shown(page: Judged) -> dict[str, Any]:
        one = by_path.get(page.path)
        return {"shots": list(_shots(one, ("live", "the copy"))) if one is not None else ()}

    facts = [f"voyage {voyage.name}", f"live {voyage.live_url}", f"rehearsal {rehearsal.id}",
             f"{rehearsal.items} items",
             f"the merge took {rehearsal.seconds:.2f} s"]
    lost = [] if rehearsal.holds else ["What live had gained was NOT the same afterwards."]
    write(path, f"{voyage.live_name}: a rehearsal of a merge", facts, _judged(rehearsal.pages, shown),
          [*lost, *_noticed(rehearsal)])


def _shot(path: Path) -> str:
    try:
        data = _smaller(path.read_bytes())
    except OSError:
        return ""
    return f"data:image/png;base64,{base64.b64encode(data).decode()}" if data else ""


def _facts(voyage: Voyage) -> list[str]:
    return [f"voyage {voyage.name}", f"live {voyage.live_url}", f"staging {voyage.url}",
            f"cloned {voyage.since[:16].replace('T', ' ')} UTC"]


def write(path: Path, title: str, facts: Iterable[str], groups: Sequence[_Group], notes: Sequence[str] = (),
          ledger: Sequence[Line] = (), choosing: Mapping[str, str] | None = None) -> None:
    """Write a page, readable by its owner alone. choosing: it is one to choose on, of this voyage. Raises SiteError
    when it cannot be written."""
    folder = resources.files("nostos.show") / "templates"
    style, script = ((folder / f"report.{ending}").read_text(encoding="utf-8") for ending in ("css", "js"))
    if choosing:
        style, script = (text + (folder / f"choose.{ending}").read_text(encoding="utf-8")
                         for text, ending in ((style, "css"), (script, "js")))
    template = jinja2.Environment(autoescape=True, undefined=jinja2.StrictUndefined).from_string(
        (folder / "report.html").read_text(encoding="utf-8"))
    shown = [g for g in groups if g.entries]
    entries = [e for g in shown for e in g.entries]
    text = template.render(
        title=title, choosing=choosing, facts=list(facts), groups=shown, entries=entries, notes=notes, ledger=ledger,
        standings=list(Counter(e.standing for e in entries)), kinds=sorted({e.kind for e in entries}),
        opened=len(entries) <= _OPENED, made=now()[:16].replace("T", " ") + " UTC", version=nostos.__version__,
        style=Markup(style), script=Markup(script),  # noqa: S704 - our own
        style_digest=_digest(style), script_digest=_digest(script))
    try:
        write_private(path.expanduser(), text.encode("utf-8", "replace"))
    except OSError as error:
        raise SiteError(f"The report {path} cannot be written: {error.strerror}.",
                        next_step="Name another file with --html.") from error


def _digest(text: str) -> str:
    return base64.b64encode(hashlib.sha256(text.encode()).digest()).decode()
