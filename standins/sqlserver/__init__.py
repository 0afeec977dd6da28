"""A stand-in for SQL Server: the TDS protocol in front of a PostgreSQL database.

It understands the statements that Ultravect sends and ordinary questions, and answers with SQL Server's own error numbers.
``docs/stand-ins.md`` lists what it does not imitate.
"""
