"""How rows get into lake tables, and how a load is undone."""
