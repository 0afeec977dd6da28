"""From a job to what it does: what is opened, planned, executed, looked at and taken back."""
