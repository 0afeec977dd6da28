"""What is asked of the catalogue of MariaDB and MySQL."""

from __future__ import annotations

KINDS = {
    "BASE TABLE": "table",
    "VIEW": "view",
    "SYSTEM VIEW": "view",
    "SEQUENCE": "sequence",
    "SYSTEM VERSIONED": "table",
}
LIST = """
SELECT table_name, table_type, table_rows, CASE WHEN table_type = 'VIEW' THEN '' ELSE table_comment END, data_length
FROM information_schema.tables
WHERE table_schema = DATABASE() AND table_type <> 'SEQUENCE'
  AND locate(lower(%s), lower(table_name)) > 0 AND CAST(table_name AS BINARY) > CAST(%s AS BINARY)
ORDER BY CAST(table_name AS BINARY) LIMIT %s
"""
REFERENCES = """
SELECT DISTINCT table_name, referenced_table_name FROM information_schema.referential_constraints
WHERE constraint_schema = DATABASE() AND unique_constraint_schema = DATABASE() AND table_name <> referenced_table_name
"""
PRIVILEGES = """
SELECT privilege_type FROM information_schema.user_privileges
UNION SELECT privilege_type FROM information_schema.schema_privileges WHERE %(schema)s LIKE table_schema
UNION SELECT privilege_type FROM information_schema.table_privileges WHERE table_schema = %(schema)s AND table_name = %(table)s
"""
# the catalogue finds a table without looking at all others only where each part of a question names it
DESCRIBE = """
SELECT t.table_name, t.table_type, t.table_rows, CASE WHEN t.table_type = 'VIEW' THEN '' ELSE t.table_comment END, {privileges},
       c.column_name, c.column_type, c.data_type, c.is_nullable = 'YES',
       (c.column_default IS NOT NULL AND c.column_default <> 'NULL') OR c.extra LIKE '%%auto_increment%%',
       c.extra LIKE '%%GENERATED%%', c.column_key = 'PRI', c.column_comment, c.column_default
FROM information_schema.tables t JOIN information_schema.columns c ON c.table_schema = t.table_schema AND c.table_name = t.table_name
WHERE t.table_schema = %(schema)s AND t.table_name = %(table)s AND c.table_schema = %(schema)s AND c.table_name = %(table)s
ORDER BY c.ordinal_position
"""
WHOLE = DESCRIBE.format(privileges=f"(SELECT group_concat(privilege_type) FROM ({PRIVILEGES}) p)")
BARE = DESCRIBE.format(privileges="''")
CHECKS = """
SELECT constraint_name, check_clause FROM information_schema.check_constraints c
WHERE constraint_schema = %s AND table_name = %s AND NOT EXISTS (
  SELECT 1 FROM information_schema.triggers WHERE event_object_schema = c.constraint_schema
  AND event_object_table = c.table_name AND action_timing = 'BEFORE')
"""
INDEXES = """
SELECT index_name, non_unique, column_name FROM information_schema.statistics
WHERE table_schema = %s AND table_name = %s ORDER BY index_name, seq_in_index
"""
