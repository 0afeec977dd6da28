"""Runs: listed, followed, stopped; their rejects, and the runs that come of them."""
