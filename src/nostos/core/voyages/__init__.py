"""What Nostos keeps for itself: the home, voyages, the history, journals."""
