"""Lake tables: an open table format in a folder or an object store."""
