"""Backups: a whole site in one file, of open formats only (docs/backups.md), and back."""
