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


def survey(console: Console, survey: Survey) -> None:
    heading(console, survey.name, survey.url)
    table(console, ("", ""), _facts(survey), keep=(0,))
    console.print()
    table(console, ("table", "rows", "key", "what its rows are"),
          [(t.name, f"{t.rows:,}", ", ".join(t.key) or "none", ", ".join(t.kinds) or "not compared")
           for t in survey.tables], right=(1,), keep=(0, 2))
    console.print()
    if not survey.findings:
        console.print("Nothing stands in the way of a clone or a merge.")
    for finding in survey.findings:
        style = "bold red" if finding.level is Level.OBSTACLE else "bold"
        console.print(Text.assemble((f"{str(finding.level).capitalize()}: ", style), clean(finding.what)))
        console.print(Text(f"  Why it matters: {finding.why}"))
        console.print(Text(f"  Remedy, by {finding.whose}: {finding.remedy}"))


def _facts(survey: Survey) -> list[tuple[str, str]]:
    core = next((p.version for p in survey.parts if p.kind == "core" and p.version), "")
    others = [f"{p.kind} {p.name} {p.version}".rstrip() for p in survey.parts if p.kind != "core"]
    return [
        ("system", f"{survey.system} {core}".rstrip()),
        *([("", ", ".join(others))] if others else []),
        ("database", f"{survey.engine}, {size(survey.database_bytes)}, {count(len(survey.tables), 'table')}, "
                     f"{count(sum(t.rows for t in survey.tables), 'row')}"),
        ("", survey.database),
        ("files", f"{count(survey.file_count, 'file')}, {size(survey.file_bytes)}"),
        ("", survey.files),
        ("free space", size(survey.free_bytes)),
        *(("" if n else "known from", _layer(*layer)) for n, layer in enumerate(survey.layers)),
    ]


def _layer(name: str, references: int, kinds: int, policies: int) -> str:
    """What a layer of what is known tells."""
    return (f"{name}: {count(references, 'reference')}, {count(kinds, 'kind or part', 'kinds and parts')}, "
            f"{count(policies, 'policy', 'policies')}")


def report(result: Survey, path: Path) -> None:
    """Write a survey to a file: text, Markdown or JSON by its ending. Raises SiteError for other endings."""
    if path.suffix == ".json":
        text = msgspec.json.format(msgspec.json.encode(result)).decode() + "\n"
    elif path.suffix == ".md":
        text = _markdown(result)
    elif path.suffix == ".txt":
        with path.open("w", encoding="utf-8") as file:
            survey(Console(file=file, width=110, color_system=None, markup=False, emoji=False, highlight=False), result)
        return
    else:
        raise SiteError(f"A report cannot be written as {path.suffix or 'a file without an ending'}.",
                        next_step="Name a file that ends in .txt, .md or .json.")
    path.write_text(text, encoding="utf-8")


def _markdown(survey: Survey) -> str:
    def cell(text: str) -> str:
        return clean(text).replace("|", "\\|").replace("\n", " ")

    lines = [f"# Survey of {cell(survey.name)}", "", f"{survey.url}", ""]
    lines += [f"- {name or 'at'}: {cell(value)}" for name, value in _facts(survey)]
    lines += ["", "## Findings", ""]
    if not survey.findings:
        lines.append("Nothing stands in the way of a clone or a merge.")
    else:
        lines += ["| | what | why it matters | remedy | whose job |", "|---|---|---|---|---|"]
        lines += [f"| {f.level} | {cell(f.what)} | {cell(f.why)} | {cell(f.remedy)} | {f.whose} |"
                  for f in survey.findings]
    lines += ["", "## Tables", "", "| table | rows | key | what its rows are |", "|---|---:|---|---|"]
    lines += [f"| {cell(t.name)} | {t.rows:,} | {cell(', '.join(t.key)) or 'none'} | {cell(', '.join(t.kinds))} |"
              for t in survey.tables]
    return "\n".join(lines) + "\n"
