"""Showing a survey: for the terminal, and as a report to hand to someone."""

from __future__ import annotations

from pathlib import Path

import msgspec
from rich.console import Console
from rich.text import Text

from nostos.around.survey import Level, Survey
from nostos.core.errors import SiteError
from nostos.core.patterns import clean
from nostos.show.tables import count, heading, size, table


def survey(console: Console, found: Survey) -> None:
    heading(console, found.name, found.url)
    table(console, ("", ""), _facts(found), keep=(0,))
    console.print()
    table(console, ("table", "rows", "key", "what its rows are"),
          [(t.name, f"{t.rows:,}", ", ".join(t.key) or "none", ", ".join(t.kinds) or "not compared")
           for t in found.tables], right=(1,), keep=(0, 2))
    console.print()
    if not found.findings:
        console.print("Nothing stands in the way of a clone or a merge.")
    for finding in found.findings:
        style = "bold red" if finding.level is Level.OBSTACLE else "bold"
        console.print(Text.assemble((f"{str(finding.level).capitalize()}: ", style), clean(finding.what)))
        console.print(Text(f"  Why it matters: {finding.why}"))
        console.print(Text(f"  Remedy, by {finding.whose}: {finding.remedy}"))


def _facts(found: Survey) -> list[tuple[str, str]]:
    core = next((p.version for p in found.parts if p.kind == "core" and p.version), "")
    others = [f"{p.kind} {p.name} {p.version}".rstrip() for p in found.parts if p.kind != "core"]
    return [
        ("system", f"{found.system} {core}".rstrip()),
        *([("", ", ".join(others))] if others else []),
        ("database", f"{found.engine}, {size(found.database_bytes)}, {count(len(found.tables), 'table')}, "
                     f"{count(sum(t.rows for t in found.tables), 'row')}"),
        ("", found.database),
        ("files", f"{count(found.file_count, 'file')}, {size(found.file_bytes)}"),
        ("", found.files),
        ("free space", size(found.free_bytes)),
        *(("" if n else "known from", _layer(*layer)) for n, layer in enumerate(found.layers)),
    ]


def _layer(name: str, references: int, kinds: int, policies: int) -> str:
    """What a layer of what is known tells."""
    return (f"{name}: {count(references, 'reference')}, {count(kinds, 'kind or part', 'kinds and parts')}, "
            f"{count(policies, 'policy', 'policies')}")


def report(found: Survey, path: Path) -> None:
    """Write a survey to a file: text, Markdown or JSON by its ending. Raises SiteError for other endings."""
    if path.suffix == ".json":
        text = msgspec.json.format(msgspec.json.encode(found)).decode() + "\n"
    elif path.suffix == ".md":
        text = _markdown(found)
    elif path.suffix == ".txt":
        with path.open("w", encoding="utf-8") as file:
            survey(Console(file=file, width=110, color_system=None, markup=False, emoji=False, highlight=False), found)
        return
    else:
        raise SiteError(f"A report cannot be written as {path.suffix or 'a file without an ending'}.",
                        next_step="Name a file that ends in .txt, .md or .json.")
    path.write_text(text, encoding="utf-8")


def _markdown(found: Survey) -> str:
    def cell(text: str) -> str:
        return clean(text).replace("|", "\\|").replace("\n", " ")

    lines = [f"# Survey of {cell(found.name)}", "", f"{found.url}", ""]
    lines += [f"- {name or 'at'}: {cell(value)}" for name, value in _facts(found)]
    lines += ["", "## Findings", ""]
    if not found.findings:
        lines.append("Nothing stands in the way of a clone or a merge.")
    else:
        lines += ["| | what | why it matters | remedy | whose job |", "|---|---|---|---|---|"]
        lines += [f"| {f.level} | {cell(f.what)} | {cell(f.why)} | {cell(f.remedy)} | {f.whose} |"
                  for f in found.findings]
    lines += ["", "## Tables", "", "| table | rows | key | what its rows are |", "|---|---:|---|---|"]
    lines += [f"| {cell(t.name)} | {t.rows:,} | {cell(', '.join(t.key)) or 'none'} | {cell(', '.join(t.kinds))} |"
              for t in found.tables]
    return "\n".join(lines) + "\n"
