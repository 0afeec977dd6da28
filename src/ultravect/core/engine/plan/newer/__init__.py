"""Plans which rows, files or versions are new, and the mark that the load leaves."""
