"""Rows that could not be converted or written: found, counted, kept with where they came from, and found again."""
