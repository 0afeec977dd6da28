"""Carries out runs: a warm pool of leg processes, and the tasks that use it."""
