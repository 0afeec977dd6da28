"""Workbooks."""
