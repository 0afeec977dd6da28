"""The kind sqlite."""
