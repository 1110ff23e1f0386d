"""A merge carried out on a fresh copy of live, and the copy visited, before live is touched."""
