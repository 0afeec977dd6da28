"""The kind sftp."""
