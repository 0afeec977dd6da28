"""A kind of connection: tables that are kept in one SQLite database."""
