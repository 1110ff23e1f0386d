"""The engines, one a folder, and what two of them share."""
