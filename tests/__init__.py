"""Tests. `python -m tests` runs them all and closes with a line of counts."""
