"""What the service sends to others: messages, lineage and traces."""
