"""What one kind of content-managed system means by its tables, settings and folders."""
