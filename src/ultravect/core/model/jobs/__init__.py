"""The job file."""
