"""Making a staging copy: its place, its rows, its masked values."""
