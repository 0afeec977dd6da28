"""PostgreSQL, by psycopg."""
