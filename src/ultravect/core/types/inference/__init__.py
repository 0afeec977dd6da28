"""Finds the types of text columns from their values, with the evidence."""
