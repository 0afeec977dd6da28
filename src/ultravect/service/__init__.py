"""The service: records, REST API, tasks and sign-in; it serves the console."""
