"""Processes in which legs are copied and things are looked at, so that their end, their limits or their crash harm nothing else."""
