"""SQLite."""
