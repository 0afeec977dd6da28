"""The kind folder."""
