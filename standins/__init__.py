"""Stand-ins: small servers of ours for what cannot run on a developer's machine. Made for tests and the demo, not to keep data."""
