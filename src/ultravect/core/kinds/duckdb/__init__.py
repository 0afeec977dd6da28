"""The kind duckdb."""
