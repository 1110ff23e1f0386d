"""A trial and the versions of the real PHP system, with an extension that breaks half of its pages."""

import unittest

from nostos.around.trial.compare import Verdict
from nostos.around.trial.run import Options, Trial, judged, remember, remembered, visit
from nostos.around.versions import versions
from nostos.core.anchor.open_voyage import opened
from tests.real.servers import missing
from tests.real.test_system import SystemTest

BREAKER = """<?php
/* Plugin Name: Breaker
 * Version: {} */
ini_set( 'display_errors', '1' );
add_filter( 'the_content', function ( $text ) {{
  if ( strpos( get_the_title(), 'Odd' ) !== false ) {{ throw new Error( 'no more' ); }}
  if ( strpos( get_the_title(), 'Quiet' ) !== false ) {{ return ''; }}
  if ( strpos( get_the_title(), 'Loud' ) !== false ) {{ echo $nothing; }}
  return $text; }} );
"""
PAGES = """foreach (['Odd one', 'Odd two', 'Quiet', 'Loud', 'Even one', 'Even two', 'Even three', 'Even four'] as
  $title)
  page($title, ['post_content' => '<p>' . str_repeat('Stars over the hill. ', 20) . '</p>']);"""


@unittest.skipIf(missing(), missing())
class Trials(SystemTest):
    def test_an_extension_that_breaks_half_of_the_pages(self) -> None:
        self.ask(self.live, PAGES)
        staging = self.clone()
        self.live.serve(self)
        staging.serve(self)

        def trial(against: str = "") -> Trial:
            with opened(self.home, self.home.read("autumn")) as crew:
                seen, left = visit(crew, Options(rate=500))
                then = remembered(self.home, "autumn", against) if against else None
                if not (self.home.folder("autumn") / "trials").exists():
                    remember(self.home, "autumn", "clean", seen)
                return judged(crew, seen, left, (against, then) if then else None)

        found = trial()
        self.assertEqual([p for p in found.pages if p.verdict not in (Verdict.SAME, Verdict.SLOWER)], [])
        self.assertGreater(len(found.pages), 10)
        folder = staging.folder / "wp-content/plugins/breaker"
        folder.mkdir(parents=True)
        (folder / "breaker.php").write_text(BREAKER.format("1.0"))
        self.ask(staging, "activate_plugin('breaker/breaker.php'); "
                          "wp_update_post(['ID' => get_page_by_path('even-one')->ID, 'post_content' => '<p>New</p>']);")
        for against in ("", "clean"):
            found = trial(against)
            said = {p.item: p for p in found.pages if p.item.startswith("page/")}
            broke = {name for name, p in said.items() if p.verdict is Verdict.BROKE}
            self.assertEqual(broke, {"page/odd-one", "page/odd-two", "page/quiet", "page/loud"} | (broke & {
                "page/even-one"}))
            self.assertIn("answered with 500", " ".join(said["page/odd-one"].why))
            self.assertIn("prints an error: Warning: Undefined variable $nothing", " ".join(said["page/loud"].why))
            self.assertIn("words", " ".join(said["page/quiet"].why))
            self.assertEqual(said["page/even-two"].verdict in (Verdict.SAME, Verdict.SLOWER), True)
        with opened(self.home, self.home.read("autumn")) as crew:
            theme = staging.folder / "wp-content/themes/twentytwentythree/style.css"
            theme.write_text(theme.read_text() + "/* by hand */\n")
            parts = {p.name: p for p in versions(crew)}
        breaker = parts["breaker"]
        self.assertEqual((breaker.anchor, breaker.live), (None, None))
        assert breaker.staging is not None
        self.assertEqual((breaker.staging.version, breaker.staging.enabled), ("1.0", True))
        used = parts["twentytwentythree"]
        assert used.live is not None and used.staging is not None
        self.assertEqual((used.live.enabled, used.staging.enabled, used.staging.edited), (True, True, ("style.css",)))
        core = parts["wp-includes"]
        self.assertEqual(len({s.version for s in (core.anchor, core.live, core.staging) if s}), 1)


del SystemTest
