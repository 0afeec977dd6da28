"""Delimited text: found from its first rows, cut at row ends, parsed block by block."""
