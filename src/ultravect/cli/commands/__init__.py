"""The commands, a module a group."""
