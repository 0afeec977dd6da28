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
SELECT table_name, table_type, table_rows, CASE WHEN table_type = 'VIEW' THEN '' ELSE table_comment END
FROM information_schema.tables
WHERE table_schema = DATABASE() AND table_type <> 'SEQUENCE'
  AND locate(lower(%s), lower(table_name)) > 0 AND CAST(table_name AS BINARY) > CAST(%s AS BINARY)
ORDER BY CAST(table_name AS BINARY) LIMIT %s
"""
REFERENCES = """
SELECT DISTINCT table_name, referenced_table_name FROM information_schema.referential_constraints
WHERE constraint_schema = DATABASE() AND unique_constraint_schema = DATABASE() AND table_name <> referenced_table_name
"""
FIND = """
SELECT table_schema, table_name, table_type, table_rows, CASE WHEN table_type = 'VIEW' THEN '' ELSE table_comment END
FROM information_schema.tables WHERE table_schema = coalesce(%s, DATABASE()) AND table_name = %s
"""
COLUMNS = """
SELECT column_name, column_type, data_type, is_nullable = 'YES',
       (column_default IS NOT NULL AND column_default <> 'NULL') OR extra LIKE '%%auto_increment%%',
       extra LIKE '%%GENERATED%%', column_key = 'PRI', column_comment, column_default
FROM information_schema.columns WHERE table_schema = %s AND table_name = %s ORDER BY ordinal_position
"""
UNIQUE = """
SELECT group_concat(column_name SEPARATOR '\\0') FROM information_schema.statistics
WHERE table_schema = %s AND table_name = %s AND non_unique = 0 GROUP BY index_name HAVING count(column_name) = count(*)
"""
CHECKS = """
SELECT constraint_name, check_clause FROM information_schema.check_constraints c
WHERE constraint_schema = %s AND table_name = %s AND NOT EXISTS (
  SELECT 1 FROM information_schema.triggers WHERE event_object_schema = c.constraint_schema
  AND event_object_table = c.table_name AND action_timing = 'BEFORE')
"""
PRIVILEGES = """
SELECT privilege_type FROM information_schema.user_privileges
UNION SELECT privilege_type FROM information_schema.schema_privileges WHERE %s LIKE table_schema
UNION SELECT privilege_type FROM information_schema.table_privileges WHERE table_schema = %s AND table_name = %s
"""
INDEXED = """
SELECT DISTINCT column_name FROM information_schema.statistics
WHERE table_schema = %s AND table_name = %s AND seq_in_index = 1
"""
