"""The steps of a load into a table, apart from what a kind writes in its own way."""
