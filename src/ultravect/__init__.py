"""Ultravect: declared copy jobs between databases, files and storage."""

__version__ = "0.1.0"
