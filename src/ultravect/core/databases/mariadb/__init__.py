"""MariaDB, and MySQL."""
