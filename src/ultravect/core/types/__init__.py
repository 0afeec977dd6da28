"""Canonical types, and the conversion of text into them with a failure mask."""
