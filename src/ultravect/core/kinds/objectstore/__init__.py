"""The kind objectstore."""
