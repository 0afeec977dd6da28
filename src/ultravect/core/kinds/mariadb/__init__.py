"""The kind mariadb."""
