"""What a kind of connection promises: protocols and frozen data classes, and nothing that runs."""
