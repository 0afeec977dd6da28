"""A kind of connection: files that are kept in one SQLite database."""
