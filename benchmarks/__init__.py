"""Measurements against the database's own client and hand-written scripts, as ratios within one run."""
