"""`nostos learn SITE|VOYAGE`"""

from __future__ import annotations

import argparse
from collections.abc import Collection, Iterable, Sequence
from pathlib import Path
from typing import TYPE_CHECKING

from nostos.cli.environment import Environment, ExitStatus

if TYPE_CHECKING:
    from nostos.core.plan.unknown import Question


def arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("site", metavar="SITE", help="the site's folder or site file; or a voyage, for its questions")
    parser.add_argument("--answer", metavar="PLACE=TABLE", action="append", default=[],
                        help="say what a place points at; PLACE=number: at nothing; repeatable")
    parser.add_argument("--interactive", action="store_true", help="ask each question that a voyage waits for")
    parser.add_argument("--save", metavar="FILE", help="also write the answers to a file for a colleague")
    parser.add_argument("--all", action="store_true", help="show what is no reference, too")
    parser.epilog = ("Examples:\n  nostos learn /srv/www/site\n  nostos learn autumn --interactive\n"
                     "  nostos learn autumn --answer shop_lines.item=shop_items --answer shop_lines.seats=number\n\n"
                     "Exit status 1: there are questions left.")


def run(args: argparse.Namespace, env: Environment) -> ExitStatus:
    from nostos.core.anchor.open_voyage import answers_of, opened
    from nostos.core.database.protocol import explaining
    from nostos.core.errors import SelectionError
    from nostos.core.learning.findings import add_answers, read_layer
    from nostos.core.learning.learn import learn
    from nostos.core.plan.prepared import compare_voyage
    from nostos.core.progress import Progress
    from nostos.core.sites.recognise import recognise
    from nostos.core.voyages.home import Home
    from nostos.show import learning
    from nostos.show.output import write_json
    from nostos.show.progress import shown

    home = Home(env.home)
    voyage = home.read(args.site) if args.site in home.names() else None
    site = recognise(voyage.live if voyage else args.site)
    answers = answers_of(home, site)
    database = site.open(readonly=True)
    try:
        with explaining(database), database.reading(), shown(env.err) as tell:
            tables = database.tables()
            layer = learn(database, tables, site.full_profile(tables),
                          lambda name: tell(Progress("learning", 0, None, f"tables, {name}")))
    finally:
        database.close()
    questions: tuple[Question, ...] = ()
    if voyage is not None:
        with opened(home, voyage) as crew, shown(env.err) as tell:
            questions = compare_voyage(crew, tell)[0].questions
            staging = crew.staging.open(readonly=True)
            try:
                tables = {**staging.tables(), **tables}
            finally:
                staging.close()
    replies = _said(args.answer)
    if args.interactive:
        replies.update(_ask(env, _unanswered(questions, replies)))
    for q in questions:
        if str(q.place) in replies:  # an answer to a question is one to all places that it is asked of
            for alike in q.alike:
                replies.setdefault(str(alike), replies[str(q.place)])
    if replies:
        home.make()
        try:
            add_answers(answers, replies, tables)
        except ValueError as error:
            raise SelectionError(f"The answer cannot be kept: {error}.",
                                 next_step="`nostos compare` shows the places as they are written.") from None
        env.err.print(f"Kept in {answers}.")
    if args.save:
        Path(args.save).expanduser().write_text(answers.read_text(encoding="utf-8") if answers.is_file() else "",
                                                encoding="utf-8")
        env.err.print(f"Written to {args.save}.")
    left = _unanswered(questions, replies)
    if env.json:
        write_json(env.stdout, learning.data(layer, read_layer(answers), left))
    else:
        learning.learned(env.out, site.name, layer, read_layer(answers), left, args.all)
    return ExitStatus.LOOK if left else ExitStatus.DONE


def _ask(env: Environment, left: Sequence[Question]) -> dict[str, str]:
    """Ask each question; what is not answered is left. Returns answers by place."""
    from nostos.show.learning import asked

    replies: dict[str, str] = {}
    for n, question in enumerate(left, start=1):
        env.err.print()
        for line in asked(question, f"{n} of {len(left)}. "):
            env.err.print(line, soft_wrap=True, highlight=False, markup=False)
        choices = [*question.candidates, "number"]
        for at, choice in enumerate(choices, start=1):
            means = "nothing: it is just a number" if choice == "number" else f"a row of {choice}"
            env.err.print(f"   {at}  {means}")
        answer = env.ask("   Which? (a number; empty: not now) ")
        if answer.isdigit() and 1 <= int(answer) <= len(choices):
            replies.update((str(p), choices[int(answer) - 1]) for p in question.places)
    return replies


def _unanswered(questions: Iterable[Question], answered: Collection[str]) -> list[Question]:
    """The questions of which not every place has an answer."""
    return [q for q in questions if not {str(p) for p in q.places} <= {*answered}]


def _said(answers: list[str]) -> dict[str, str]:
    """What each place was said to point at, from `PLACE=TABLE` on the command line."""
    from nostos.core.errors import SelectionError

    replies: dict[str, str] = {}
    for answer in answers:
        place, mark, table = answer.rpartition("=")
        if not mark or not place:
            raise SelectionError(f"{answer!r} is not written like PLACE=TABLE.",
                                 next_step="`nostos compare` shows the places; an answer is a table, or `number`.")
        replies[place] = table
    return replies
