"""Rows outside a database: their bytes, their digests, their JSON lines."""
