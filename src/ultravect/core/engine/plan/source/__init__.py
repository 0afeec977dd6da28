"""Plans the source: its columns and their types, which of them are read, and in which slices."""
