"""Jobs: saved, checked, and run."""
