"""Asking a copy about itself, through its own system's command line: whether its guards are awake, and whether its
database, folders and addresses are its own."""

from __future__ import annotations

import json
import os
import shutil
import subprocess
from collections.abc import Iterator, Mapping
from pathlib import Path
from typing import Any
from urllib.parse import urlsplit

from nostos.core.database.engines import Location
from nostos.core.errors import SiteError
from nostos.core.profiles.model import Question

_SECONDS = 60
_MARK = "nostos:"


def asked(question: Question, folder: Path, url: str, location: Location) -> str:
    """Ask a copy. Returns why it could not be asked; empty: it was, and all is its own. Raises SiteError when it says
    that it would act on another site."""
    program = shutil.which(question.program)
    if program is None:
        return f"{question.program} is not installed here"
    said = _said(program, question.text.replace("{host}", urlsplit(url).netloc), folder)
    if isinstance(said, str):
        return said
    wrong = list(_wrong(said, folder, url, location))
    if wrong:
        raise SiteError(f"The copy would act on another site: {'; '.join(wrong)}.",
                        left="Live was only read; the copy was removed.",
                        next_step="See where its configuration says that, write it as a text there, then clone again.")
    return ""


def _said(program: str, text: str, folder: Path) -> Mapping[str, Any] | str:
    """What the copy says, or why it says nothing. It is asked as whoever owns it, never as root where it can be
    helped."""
    owner = folder.stat()
    other: dict[str, Any] = {}
    if os.geteuid() == 0 and owner.st_uid:
        other = {"user": owner.st_uid, "group": owner.st_gid, "extra_groups": []}
    try:
        done = subprocess.run(  # noqa: S603 - the program is the profile's, and what it runs is the copy's own code
            [program], input=text, cwd=folder, capture_output=True, text=True, errors="replace", timeout=_SECONDS,
            check=False, env={"PATH": os.environ.get("PATH", os.defpath)}, **other)
    except (OSError, subprocess.SubprocessError) as error:
        return f"{Path(program).name} could not be run ({type(error).__name__})"
    line = next((line for line in done.stdout.splitlines() if line.startswith(_MARK)), "")
    try:
        found = json.loads(line[len(_MARK):])
    except ValueError:
        return "it gave no answer"
    return found if isinstance(found, dict) else "it gave no answer"


def _wrong(said: Mapping[str, Any], folder: Path, url: str, location: Location) -> Iterator[str]:
    """What of the answer is not the copy's own."""
    if str(said.get("database")) != str(location.url.database) or str(said.get("prefix")) != location.prefix:
        yield f"its database is {said.get('database')}, its prefix {said.get('prefix')}"
    for address in (said.get("url"), *said.get("urls", ())):
        if not str(address).startswith(url):
            yield f"it answers to {address}"
    root = folder.resolve()
    for place in said.get("folders", ()):
        if not Path(str(place)).resolve().is_relative_to(root):
            yield f"it uses the folder {place}"
    if said.get("guarded") is not True:
        yield "its guards do not wake"
