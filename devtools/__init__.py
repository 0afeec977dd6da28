"""What ./dev does, beyond installing."""
