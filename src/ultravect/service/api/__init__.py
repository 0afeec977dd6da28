"""The REST API under /api/v1/."""
