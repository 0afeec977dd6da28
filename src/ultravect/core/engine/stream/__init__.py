"""Follows the log of a source: copies its tables once, and then what changes in them, window by window."""
