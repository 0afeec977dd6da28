"""What is counted and compared while a leg runs: its tally, guards, checksums and mark."""
