"""Warehouses that speak PostgreSQL's protocol and load from an object store: rows are staged there as files, and copied by one statement."""
