"""What one value holds: addresses, structures, tokens, references."""
