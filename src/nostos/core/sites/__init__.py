"""What a site is: recognising one, its configuration, its guards, its lock."""
