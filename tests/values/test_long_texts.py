"""Whoever may write a row decides what Nostos reads: no text of a size that is read takes more than a moment. A reader
that goes over the rest of a text from each place in it would take minutes for these."""

from __future__ import annotations

import resource
import subprocess
import sys
import unittest

LIMIT_SECONDS = 60  # of the processor, for all of them; in a line they take five
READ = r"""
import os
from nostos.core.clone.other_machines import machines_in
from nostos.core.sites.copy_configuration import rules
from nostos.core.sites.php_configuration import _without_comments as without_comments
from nostos.core.values.shapes import spots
from nostos.core.values.structures import read
from nostos.core.values.urls import UrlForms

size = 150_000
units = ("a1", "a", "1", "a[b]", "[a ", "<a ", "<!-- a {", "- ", "a: ", "1, ", "{", '{"', "[",
         '"', "\\", "\\\"", "a:1:{",
         's:9:"', "%5B", "http://", "@", "\n", " ", "=", "&a=", "/", "./", "$a", "'a',", "//", "/*", "#", "smtp.",
         "RewriteRule ")
live, copy = UrlForms("https://a.example"), UrlForms("http://127.0.0.1:8431", also=("https://a.example",))
for unit in (*units, os.urandom(64).hex()):
    text = unit * (size // len(unit)) + "!"
    spots(text)
    read(text)
    live.from_tokens(live.to_tokens(text))
    rules(text, live, copy)
    without_comments(text)
    list(machines_in("x", text, ()))
spots("- a: 21\n" * 60 + "and so on (21)")
print("read")
"""


class LongTexts(unittest.TestCase):
    def test_no_text_takes_more_than_a_moment(self) -> None:
        def limited() -> None:
            resource.setrlimit(resource.RLIMIT_CPU, (LIMIT_SECONDS, LIMIT_SECONDS))

        done = subprocess.run([sys.executable, "-c", READ], preexec_fn=limited, capture_output=True, text=True,
                              check=False)
        self.assertEqual("read", done.stdout.strip(), done.stderr[-800:])


if __name__ == "__main__":
    unittest.main()
