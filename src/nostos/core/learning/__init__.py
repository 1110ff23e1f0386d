"""Working out what tables and values mean that nothing names, with evidence."""
