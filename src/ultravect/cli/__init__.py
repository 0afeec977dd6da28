"""The command line, on the client."""
