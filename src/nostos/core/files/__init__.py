"""A site's files: the tree that holds them, what lies in it, copying it."""
