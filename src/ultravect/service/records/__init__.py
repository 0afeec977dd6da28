"""What the service remembers: users, connections, jobs and runs."""
