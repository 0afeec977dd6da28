"""Kinds of connections, one package each, and how they are found."""
