"""No database at all: a site of files only."""
