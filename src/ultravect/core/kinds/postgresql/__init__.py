"""The kind postgresql."""
