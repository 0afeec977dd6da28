"""From names of connections, tables and files to what is opened."""
