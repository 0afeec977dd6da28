"""Plan, check and run a job: the phases, the tally and the rejects."""
