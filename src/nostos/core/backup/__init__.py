"""A whole copy of a site in one file, and back."""
