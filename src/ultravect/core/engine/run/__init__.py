"""Executes plans."""
