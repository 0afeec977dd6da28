"""What kinds that hold files share."""
