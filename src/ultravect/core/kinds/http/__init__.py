"""The kind http."""
