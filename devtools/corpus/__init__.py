"""Sample files of public packages, copied into PostgreSQL and held against independent readers."""
