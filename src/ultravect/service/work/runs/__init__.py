"""Runs and their legs: started, laid out, executed, recorded, and tried again."""
