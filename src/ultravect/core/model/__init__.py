"""What users declare: jobs, layouts and connection settings, with their files and their problems."""
