"""What SQL dialects share, and dialects without a kind."""
