"""Visiting the pages of both sites."""
