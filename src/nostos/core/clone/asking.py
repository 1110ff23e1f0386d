"""Asking a copy about itself, through its own system's command line: whether its guards are awake, and whether its
database, folders and addresses are its own."""

from __future__ import annotations

import json
from collections.abc import Iterator, Mapping
from typing import Any
from urllib.parse import urlsplit

from nostos.core.database.registry import Location
from nostos.core.errors import SiteError
from nostos.core.hosts.far_path import AnyPath, below, host_of, on_host
from nostos.core.hosts.running import can_run, run
from nostos.core.profiles.parts import ProgramQuestion

_SECONDS = 60
_MARK = "nostos:"


def asked(question: ProgramQuestion, folder: AnyPath, url: str, location: Location) -> str:
    """Ask a copy. Returns why it could not be asked; empty: it was, and all is its own. Raises SiteError when it says
    that it would act on another site."""
    if not can_run(folder, question.program):
        return f"{question.program} is not installed {'here' if not host_of(folder) else 'there'}"
    answers = _said(question.program, question.text.replace("{host}", urlsplit(url).netloc), folder)
    if isinstance(answers, str):
        return answers
    wrong = list(_wrong(answers, folder, url, location))
    if wrong:
        raise SiteError(f"The copy would act on another site: {'; '.join(wrong)}.",
                        left="Live was only read; the copy was removed.",
                        next_step="See where its configuration says that, write it as a text there, then clone again.")
    return ""


def _said(program: str, text: str, folder: AnyPath) -> Mapping[str, Any] | str:
    """What the copy says, or why it says nothing. It is asked as whoever owns it, never as root where it can be
    helped."""
    done = run(folder, [program], _SECONDS, text.encode(), as_owner=True)
    if done.status is None:
        return f"{program}: {done.why}"
    line = next((line for line in done.output.decode("utf-8", "replace").splitlines() if line.startswith(_MARK)), "")
    try:
        answers = json.loads(line[len(_MARK):])
    except ValueError:
        return "it gave no answer"
    return answers if isinstance(answers, dict) else "it gave no answer"


def _wrong(reply: Mapping[str, Any], folder: AnyPath, url: str, location: Location) -> Iterator[str]:
    """What of the answer is not the copy's own."""
    if str(reply.get("database")) != str(location.url.database) or str(reply.get("prefix")) != location.prefix:
        yield f"its database is {reply.get('database')}, its prefix {reply.get('prefix')}"
    for address in (reply.get("url"), *reply.get("urls", ())):
        if not str(address).startswith(url):
            yield f"it answers to {address}"
    root = folder.resolve()
    host = host_of(folder)
    for place in reply.get("folders", ()):
        if below(on_host(host, str(place)).resolve(), root) is None:
            yield f"it uses the folder {place}"
    if reply.get("guarded") is not True:
        yield "its guards do not wake"
