"""Databases: what a table is, the protocol that every engine answers, and the engines, a folder each."""
