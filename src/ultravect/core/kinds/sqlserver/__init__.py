"""SQL Server, by the published protocol TDS."""
