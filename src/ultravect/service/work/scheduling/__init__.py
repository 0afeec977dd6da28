"""What a service does by itself: starts runs whose time has come, and removes old records."""
