"""The select list of a job: its grammar and what it means."""
