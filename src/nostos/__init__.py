"""Nostos: clone a live site into staging, test there, merge only the chosen changes home."""

__version__ = "0.1.0"
