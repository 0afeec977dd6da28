"""What kinds that hold tables share: the steps of a load into a table."""
