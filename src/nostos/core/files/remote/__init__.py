"""Trees of another machine, which a helper there works on."""
