"""The driver of write plans: one order of steps, for every kind of target."""
