"""What databases in a file share."""
