"""Fixed-width records."""
