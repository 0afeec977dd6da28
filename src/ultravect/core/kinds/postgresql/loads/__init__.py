"""How rows get into tables of PostgreSQL."""
