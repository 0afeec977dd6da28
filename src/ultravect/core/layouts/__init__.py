"""File formats: how bytes become rows and columns."""
