"""Loading and reading by a session of DuckDB, which kinds share."""
