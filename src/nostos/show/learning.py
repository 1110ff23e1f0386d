"""Showing what was learned of a site, and asking what is not known."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING, Any

from nostos.core.anchor.names import Side
from nostos.core.learning.findings import Certainty, Finding, Layer
from nostos.core.learning.places import ROWS
from nostos.core.patterns import clean
from nostos.core.profiles.places import Place
from nostos.show.tables import count, heading, table

if TYPE_CHECKING:
    from rich.console import Console

    from nostos.core.plan.unknown import Question

_SHOWN = 3  # tables that a question names


def learned(console: Console, name: str, layer: Layer, answers: Layer, left: Sequence[Question], every: bool) -> None:
    """What is sure, what may be, whose the rows are, what was answered, what is asked."""
    by: dict[Certainty, list[Finding]] = {c: [] for c in Certainty}
    for finding in layer.findings:
        by[finding.certainty].append(finding)
    heading(console, f"Points at something, and no profile says so: {len(by[Certainty.SURE])}", clean(name),
            "bold green")
    _findings(console, by[Certainty.SURE])
    if by[Certainty.OPEN]:
        console.print()
        heading(console, f"Perhaps: {len(by[Certainty.OPEN])}", "asked when a number there matters")
        _findings(console, by[Certainty.OPEN])
    if every and by[Certainty.NONE]:
        console.print()
        heading(console, f"Just numbers: {len(by[Certainty.NONE])}")
        _findings(console, by[Certainty.NONE])
    for title, note, kinds in (("Counts as visitors'", "stays in staging unless named", layer.visitors),
                               ("Counts as editors'", "goes home with the rest", layer.editors),
                               ("Made from others", "not compared", layer.made)):
        if kinds:
            console.print()
            heading(console, f"{title}: {len(kinds)}", note)
            table(console, ("table", "why"), [(k, layer.why.get(k, "")) for k in kinds], keep=(0,))
    if answers.references or answers.numbers:
        console.print()
        heading(console, "Answered")
        rows = dict.fromkeys((str(Place(r.table, r.column, r.where, r.path or ())), r.to) for r in answers.references)
        table(console, ("place", "points at"), [*rows, *((str(p), "nothing: a number") for p in sorted(
            answers.numbers, key=str))], keep=(0,))
    if layer.sampled[0]:
        console.print()
        console.print(f"Read for it: {count(layer.sampled[1], 'row')} of {count(layer.sampled[0], 'table')}, the first "
                      f"and the last of each, at most {ROWS:,}; and what an index leads to from there.")
    if left:
        console.print()
        questions(console, left)


def _findings(console: Console, some: Sequence[Finding]) -> None:
    if some:
        table(console, ("place", "points at", "evidence"), [
            (str(f.place), (f.to or "?") + (" (a list)" if f.many else ""), "; ".join(f.evidence)) for f in some],
              keep=(0, 1))


def questions(console: Console, left: Sequence[Question]) -> None:
    """What has to be known before the items that hold it can go home: each thing by its name on both sides."""
    heading(console, f"Questions: {len(left)}", "what waits for an answer stays where it is", "bold yellow")
    for n, q in enumerate(left, start=1):
        console.print()
        for line in asked(q, f"{n}. "):
            console.print(clean(line), soft_wrap=True, highlight=False)
        answer = clean(" ".join(f"--answer '{p}={_likeliest(q)}'" for p in q.places))
        console.print(f"   {answer}   or  ...=number", soft_wrap=True, highlight=False)
    console.print()
    console.print("  Answer with `nostos learn VOYAGE --interactive`, or `nostos learn VOYAGE` and what stands below.",
                  soft_wrap=True)


def _likeliest(q: Question) -> str:
    return q.candidates[0] if q.candidates else "number"


def asked(q: Question, mark: str = "") -> list[str]:
    """A question in lines: what stands where, what it is on either side, what follows, and what speaks for it."""
    some = ", ".join(map(str, q.numbers[:4])) + (", ..." if len(q.numbers) > 4 else "")
    lines = [f"{mark}{_some(q.items)}: {some} stands in {_some([str(p) for p in q.places])}."]
    here, there = dict(q.here), dict(q.there)
    mine, other = ("in staging", "on live") if q.source is Side.STAGING else ("on live", "in staging")
    for n, name in enumerate(q.candidates[:_SHOWN]):
        title, other_title = here.get(name), there.get(name)
        lines.append(f"   {'Is' if n == 0 else 'Or'} it a row of {name}? {mine.capitalize()} "
                     + (f"{q.numbers[0]} is {title}" if title else f"no row there is {q.numbers[0]}")
                     + f"; {other} {f'it is {other_title}' if other_title else 'nothing has that number'}.")
    lines.append("   If it is, it goes along with that thing, under the number that it gets there. If it is a mere "
                 "number, it goes as it is.")
    return [*lines, *(f"   {line}" for line in q.evidence[:_SHOWN])]


def _some(names: Sequence[str]) -> str:
    return ", ".join(names[:2]) + (f" and {len(names) - 2} more" if len(names) > 2 else "")


def data(layer: Layer, answers: Layer, left: Sequence[Question]) -> dict[str, Any]:
    return {"findings": [{"place": str(f.place), "certainty": str(f.certainty), "to": f.to or None, "list": f.many,
                          "evidence": list(f.evidence)} for f in layer.findings],
            "sampled": {"tables": layer.sampled[0], "rows": layer.sampled[1]}, "made": list(layer.made),
            "visitors": [{"table": k, "why": layer.why.get(k, "")} for k in layer.visitors],
            "editors": [{"table": k, "why": layer.why.get(k, "")} for k in layer.editors],
            "answered": [*({"place": f"{r.table}.{r.column}", "to": r.to} for r in answers.references),
                         *({"place": str(p), "to": None} for p in sorted(answers.numbers, key=str))],
            "questions": [question(q) for q in left]}


def question(q: Question) -> dict[str, Any]:
    return {"place": str(q.place), "alike": [str(p) for p in q.alike], "numbers": list(q.numbers),
            "candidates": list(q.candidates), "items": list(q.items),
            "evidence": list(q.evidence), "here": dict(q.here), "there": dict(q.there)}
