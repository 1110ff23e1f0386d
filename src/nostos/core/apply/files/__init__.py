"""Files laid down beside their targets, and switched."""
