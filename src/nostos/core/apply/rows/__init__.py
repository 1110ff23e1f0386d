"""Rows written, placed in their trees, taken away."""
