"""Documents with rows in them: JSON, JSON lines and XML."""
