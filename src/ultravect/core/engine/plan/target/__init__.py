"""Plans the target: its table, what that may be given, and how rows are written into it."""
