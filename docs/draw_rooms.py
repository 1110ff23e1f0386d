"""Draw `docs/rooms.svg`: the rooms of `src/nostos` in twelve boxes, and which builds on which, from the imports.

An arrow that follows from others is left out. `tests/docs/test_inside.py` holds the picture against the code.
"""

from __future__ import annotations

import ast
from collections.abc import Iterator, Mapping
from pathlib import Path

ROOT = Path(__file__).parents[1]
PICTURE = ROOT / "docs" / "rooms.svg"
# Each box: its rooms, what it is for, and its floor, from the top.
BOXES: Mapping[str, tuple[tuple[str, ...], str, int]] = {
    "cli, show, demo": (("cli", "show", "demo"), "what is typed, and what is printed", 0),
    "around": (("around",), "looks, measures, tries; live is only read", 1),
    "backup, takeback": (("backup", "takeback"), "put back, undo, recover", 2),
    "apply": (("apply",), "carries a plan out, and proves it", 3),
    "plan": (("plan",), "what goes home, with what, on what conditions", 4),
    "compare": (("compare",), "what each side changed, as items", 5),
    "clone": (("clone",), "makes a staging copy, and removes it", 6),
    "anchor, voyages": (("anchor", "voyages"), "the common ancestor; what is remembered", 7),
    "sites": (("sites",), "what a site is, and its configuration", 8),
    "profiles, learning": (("profiles", "learning"), "what tables and values mean", 9),
    "database, engines": (("database", "engines"), "tables and rows, of any server", 10),
    "values, hosts, files": (("values", "hosts", "files"), "what a value holds; machines; file trees", 11),
}
_LEFT, _WIDTH, _HEIGHT, _FLOOR = 80, 330, 44, 66


def box_of(module: str) -> str:
    """The box that a module belongs to; empty for what stands above all rooms."""
    parts = module.split(".")
    room = parts[2] if parts[1:2] == ["core"] and len(parts) > 2 else parts[1] if len(parts) > 1 else ""
    return next((box for box, (rooms, *_) in BOXES.items() if room in rooms), "")


def imported(source: Path) -> Iterator[tuple[str, str]]:
    """Which module imports which."""
    for path in sorted((source / "nostos").rglob("*.py")):
        module = ".".join(path.relative_to(source).with_suffix("").parts)
        for node in ast.walk(ast.parse(path.read_text(encoding="utf-8"))):
            if isinstance(node, ast.ImportFrom) and node.module and node.module.startswith("nostos."):
                for name in node.names:
                    yield module, f"{node.module}.{name.name}"


def arrows(source: Path = ROOT / "src") -> set[tuple[str, str]]:
    """Which box builds on which, directly, and not only through one between."""
    every = {(box_of(m), box_of(other)) for m, other in imported(source)}
    every = {(a, b) for a, b in every if a and b and a != b}

    def leads(a: str, b: str, without: tuple[str, str]) -> bool:
        return any(c == b or leads(c, b, without) for start, c in every if start == a and (start, c) != without)

    return {(a, b) for a, b in every if not leads(a, b, (a, b))}


def svg(some: set[tuple[str, str]]) -> str:
    """The picture."""
    floors = {box: 20 + floor * _FLOOR for box, (*_, floor) in BOXES.items()}
    height = 20 + len(BOXES) * _FLOOR
    inner = [y for box, y in floors.items() if BOXES[box][0][0] not in ("cli", "around")]
    lines = [f'<svg xmlns="http://www.w3.org/2000/svg" viewBox="0 0 480 {height}" width="480" height="{height}" '
             'font-family="sans-serif">',
             "<title>The rooms, and which builds on which</title>",
             '<defs><marker id="tip" viewBox="0 0 8 8" refX="8" refY="4" markerWidth="7" markerHeight="7" '
             'orient="auto"><path d="M0 0L8 4L0 8z" fill="#3f5468"/></marker></defs>',
             f'<rect width="480" height="{height}" fill="#fbfaf7"/>',
             f'<rect x="20" y="{min(inner) - 10}" width="440" height="{max(inner) - min(inner) + _HEIGHT + 20}" '
             'rx="10" fill="#eef1ec" stroke="#b9c3b6"/>',
             f'<text x="32" y="{min(inner) + 8}" font-size="13" fill="#4a5545">core</text>']
    for box, y in floors.items():
        lines.append(f'<rect x="{_LEFT}" y="{y}" width="{_WIDTH}" height="{_HEIGHT}" rx="6" fill="#ffffff" '
                     'stroke="#3f5468"/>'
                     f'<text x="{_LEFT + 12}" y="{y + 18}" font-size="14" font-weight="bold" fill="#1f2d3a">{box}'
                     "</text>"
                     f'<text x="{_LEFT + 12}" y="{y + 35}" font-size="12" fill="#3a4650">{BOXES[box][1]}</text>')
    for a, b in sorted(some):
        start, end, steps = floors[a] + _HEIGHT, floors[b], BOXES[b][2] - BOXES[a][2]
        middle = _LEFT + _WIDTH / 2
        bend = middle if steps == 1 else _LEFT + _WIDTH + 20 * steps  # past the boxes between
        lines.append(f'<path d="M{middle:.0f} {start}Q{bend:.0f} {(start + end) / 2:.0f} {middle:.0f} {end}" '
                     'stroke="#3f5468" fill="none" marker-end="url(#tip)"/>')
    return "\n".join([*lines, "</svg>", ""])


if __name__ == "__main__":
    PICTURE.write_text(svg(arrows()), encoding="utf-8")
