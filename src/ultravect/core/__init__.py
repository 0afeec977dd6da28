"""The computation: no web framework, no command line, tested on its own."""
