"""The common ancestor, and which row of one side is which of the other."""
