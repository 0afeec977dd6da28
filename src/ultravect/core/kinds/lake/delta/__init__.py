"""The format Delta Lake."""
