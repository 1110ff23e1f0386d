"""What is to be done: the selection with its needs, as operations."""
