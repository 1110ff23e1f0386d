"""Carrying out: rows, schema and files of a merge, its ledger, what the anchor is told."""
