"""What is done with runs that have ended."""
