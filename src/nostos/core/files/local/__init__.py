"""Trees of this machine.

Every folder on the way to a file is opened by itself, and never through a link: so whoever may write in a tree cannot
lead Nostos out of it by swapping a folder for a link. This is the one home of ownership, flushing, links and free
space.
"""
