"""Undoing what was done, and finishing or taking back what a crash interrupted."""
