"""Law 12: whatever live changes between any two steps of an operation, no later operation changes it back."""

from __future__ import annotations

import shutil
import sqlite3
import sys
import tempfile
import unittest
from collections.abc import Callable
from contextlib import suppress
from pathlib import Path
from typing import Any

from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from nostos.core.apply.merge import merge
from nostos.core.errors import TargetMoved
from nostos.core.plan.prepared import prepare
from nostos.core.takeback.recover import recover
from nostos.core.takeback.undo import prepare_undo, to_take_back
from tests.apply.test_laws import EXAMPLES, PHASES
from tests.faults import killed
from tests.support import Harbour, dangling, rows

FILES = ("themes/dusk/layout.html", "extensions/star-chart/widget.html", "extensions/star-chart/late.log", "own.txt")


class Listener:
    """Edits live once, at the step of this number, or as soon after it as the database lets it."""

    def __init__(self, number: int, edit: Callable[[], None]) -> None:
        self.left, self.edit = number, edit
        self.busy = self.done = False

    def step(self) -> None:
        if self.done or self.busy:
            return
        self.left -= 1
        if self.left < 0:
            self.busy = True
            with suppress(sqlite3.OperationalError):  # the merge's transaction holds it: at the next step, then
                self.edit()
                self.done = True
            self.busy = False


_listening: list[Listener] = []
_CHANGES = ("open", "os.rename", "os.remove", "os.link", "os.mkdir", "os.rmdir", "nostos.exchange", "sqlite3.connect")
sys.addaudithook(lambda event, _: _listening[0].step() if _listening and event in _CHANGES else None)


class LiveGoesOn(unittest.TestCase):
    def set_up(self) -> Harbour:
        folder = Path(tempfile.mkdtemp(prefix="nostos-goes-on-"))
        self.addCleanup(shutil.rmtree, folder, ignore_errors=True)
        h = Harbour(folder)
        self.page = h.staging.find("page", "visit")["id"]
        h.staging.edit(self.page, body="<p>Staging's</p>")
        h.staging.add("page", "talks", "Talks", "<p>New</p>")
        for name in FILES[:2]:
            (h.staging_folder / name).write_text("staging's\n")
        (h.staging_folder / "own.txt").write_text("staging's\n")
        return h

    def merge(self, h: Harbour) -> None:
        with suppress(TargetMoved), h.crew() as crew:
            merge(h.home, crew, prepare(crew))

    def undo(self, h: Harbour) -> None:
        with suppress(TargetMoved), h.crew() as crew:
            merge(h.home, crew, prepare_undo(h.home, crew, to_take_back(h.home, "trip", None)))

    def edit(self, h: Harbour, what: str) -> None:
        if what in FILES:
            (h.live_folder / what).write_text("LIVES OWN\n")
            return
        with sqlite3.connect(h.live.database, timeout=0) as db:
            if what == "setting":
                db.execute("UPDATE settings SET value='\"LIVES OWN\"' WHERE name='tagline'")
            elif what == "born":
                if not db.execute("UPDATE content SET title='LIVES OWN' WHERE slug='talks'").rowcount:
                    raise sqlite3.OperationalError("not there yet")
            else:
                db.execute(f"UPDATE content SET {what}='LIVES OWN' WHERE id=?", (self.page,))
        db.close()

    def seen(self, h: Harbour, what: str) -> Any:
        if what in FILES:
            path = h.live_folder / what
            return path.read_text() if path.exists() else None
        sql = {"setting": "SELECT value FROM settings WHERE name='tagline'",
               "born": "SELECT title FROM content WHERE slug='talks'"}.get(
                   what, f"SELECT {what} FROM content WHERE id={self.page}")
        return rows(h.live.database, sql)

    @settings(max_examples=EXAMPLES // 2, deadline=None, phases=PHASES, suppress_health_check=list(HealthCheck))
    @given(st.sampled_from(("merge", "undo", "recover")), st.integers(0, 110), st.integers(1, 90),
           st.sampled_from((*FILES, "title", "setting", "born")))
    def test_no_later_operation_changes_it_back(self, verb: str, number: int, stop: int, what: str) -> None:
        h = self.set_up()
        if verb == "undo":
            self.merge(h)
        elif verb == "recover":
            killed(lambda: self.merge(h), stop)
        listener = Listener(number, lambda: self.edit(h, what))
        _listening.append(listener)
        try:
            if verb == "recover":
                recover(h.home)
            else:
                getattr(self, verb)(h)
        finally:
            _listening.clear()
        if not listener.done:
            if what == "born" and not self.seen(h, what):
                return  # it never came to be on live
            self.edit(h, what)
        mine = self.seen(h, what)
        self.assertIn("LIVES OWN", str(mine))
        self.assertEqual(recover(h.home), [])
        # Staging works on beside it, and merges again.
        h.staging.edit(self.page, title="Staging's too")
        talks = h.staging.find("page", "talks")
        h.staging.edit(talks["id"], body="<p>Newer</p>")
        (h.staging_folder / "extensions/star-chart/widget.html").write_text("staging's again\n")
        self.merge(h)
        self.assertEqual(self.seen(h, what), mine)
        self.assertEqual(dangling(h.live.database), [])
        self.assertEqual(list(h.live_folder.rglob(".nostos-*")), [])
