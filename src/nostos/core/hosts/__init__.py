"""Other machines: what ssh reaches, and the helper that is sent there."""
