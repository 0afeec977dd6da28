-- What a database needs to be taken for one of SQL Server: types, functions, and the catalogue views that are asked for.
CREATE SCHEMA IF NOT EXISTS tsql;
CREATE SCHEMA IF NOT EXISTS sys;
CREATE SCHEMA IF NOT EXISTS dbo;
GRANT USAGE ON SCHEMA tsql, sys, dbo TO PUBLIC;

CREATE COLLATION tsql."SQL_Latin1_General_CP1_CI_AS" (provider = icu, locale = 'und-u-ks-level2', deterministic = false);
CREATE COLLATION tsql."Latin1_General_CS_AS" (provider = icu, locale = 'und', deterministic = true);
CREATE COLLATION tsql."Latin1_General_100_CI_AS_SC_UTF8" (provider = icu, locale = 'und-u-ks-level2', deterministic = false);
CREATE COLLATION tsql."Latin1_General_100_BIN2" (provider = libc, locale = 'C');

CREATE DOMAIN tsql.bit AS smallint CHECK (VALUE IN (0, 1));
CREATE DOMAIN tsql.tinyint AS smallint CHECK (VALUE BETWEEN 0 AND 255);

-- moments of 100 nanoseconds, which PostgreSQL's own have not: as texts, whose order is theirs
CREATE DOMAIN tsql.datetime2 AS text COLLATE "C" CHECK (VALUE ~ '^\d{4}-\d\d-\d\d \d\d:\d\d:\d\d(\.\d{1,7})?$');
CREATE FUNCTION tsql.ticks(text) RETURNS text LANGUAGE sql IMMUTABLE AS $$
  SELECT CASE WHEN $1 LIKE '%.%' THEN rpad($1, 27, '0') ELSE $1 || '.0000000' END COLLATE "C" $$;
CREATE FUNCTION tsql.ticks(timestamp) RETURNS text LANGUAGE sql IMMUTABLE AS $$ SELECT to_char($1, 'YYYY-MM-DD HH24:MI:SS.US0') COLLATE "C" $$;

CREATE FUNCTION tsql.less(text, timestamp) RETURNS boolean LANGUAGE sql IMMUTABLE AS $$ SELECT tsql.ticks($1) < tsql.ticks($2) $$;
CREATE OPERATOR tsql.< (LEFTARG = text, RIGHTARG = timestamp, FUNCTION = tsql.less);
CREATE FUNCTION tsql.at_most(text, timestamp) RETURNS boolean LANGUAGE sql IMMUTABLE AS $$ SELECT tsql.ticks($1) <= tsql.ticks($2) $$;
CREATE OPERATOR tsql.<= (LEFTARG = text, RIGHTARG = timestamp, FUNCTION = tsql.at_most);
CREATE FUNCTION tsql.same(text, timestamp) RETURNS boolean LANGUAGE sql IMMUTABLE AS $$ SELECT tsql.ticks($1) = tsql.ticks($2) $$;
CREATE OPERATOR tsql.= (LEFTARG = text, RIGHTARG = timestamp, FUNCTION = tsql.same);
CREATE FUNCTION tsql.other(text, timestamp) RETURNS boolean LANGUAGE sql IMMUTABLE AS $$ SELECT tsql.ticks($1) <> tsql.ticks($2) $$;
CREATE OPERATOR tsql.<> (LEFTARG = text, RIGHTARG = timestamp, FUNCTION = tsql.other);
CREATE FUNCTION tsql.at_least(text, timestamp) RETURNS boolean LANGUAGE sql IMMUTABLE AS $$ SELECT tsql.ticks($1) >= tsql.ticks($2) $$;
CREATE OPERATOR tsql.>= (LEFTARG = text, RIGHTARG = timestamp, FUNCTION = tsql.at_least);
CREATE FUNCTION tsql.more(text, timestamp) RETURNS boolean LANGUAGE sql IMMUTABLE AS $$ SELECT tsql.ticks($1) > tsql.ticks($2) $$;
CREATE OPERATOR tsql.> (LEFTARG = text, RIGHTARG = timestamp, FUNCTION = tsql.more);

CREATE TABLE tsql.columns (
  relation oid, number int, base text, max_length int, "precision" int, scale int, collation_name text,
  is_identity int DEFAULT 0, is_computed int DEFAULT 0, PRIMARY KEY (relation, number)
);
CREATE TABLE tsql.periods (relation oid PRIMARY KEY, history oid, starts text, ends text);
GRANT SELECT, INSERT, UPDATE, DELETE ON tsql.columns, tsql.periods TO PUBLIC;
CREATE SEQUENCE tsql.rowversions START 2001;
GRANT USAGE, SELECT ON SEQUENCE tsql.rowversions TO PUBLIC;

CREATE FUNCTION tsql.next_rowversion() RETURNS bytea LANGUAGE sql AS $$ SELECT int8send(nextval('tsql.rowversions')) $$;
CREATE FUNCTION tsql.keep_rowversion() RETURNS trigger LANGUAGE plpgsql AS $$
BEGIN
  NEW := jsonb_populate_record(NEW, jsonb_build_object(TG_ARGV[0], tsql.next_rowversion()));
  RETURN NEW;
END $$;
-- temporal tables: the period of a row, and its history
CREATE FUNCTION tsql.keep_period() RETURNS trigger LANGUAGE plpgsql AS $$
DECLARE given jsonb := to_jsonb(NEW); began timestamp := timezone('utc', clock_timestamp());
BEGIN
  IF TG_OP = 'INSERT' AND (given ->> TG_ARGV[0] IS NOT NULL OR given ->> TG_ARGV[1] IS NOT NULL) THEN
    RAISE SQLSTATE 'TP536' USING MESSAGE = format('Cannot insert an explicit value into a GENERATED ALWAYS column in table ''%s''.', TG_TABLE_NAME);
  ELSIF TG_OP = 'UPDATE' AND (given -> TG_ARGV[0] <> to_jsonb(OLD) -> TG_ARGV[0] OR given -> TG_ARGV[1] <> to_jsonb(OLD) -> TG_ARGV[1]) THEN
    RAISE SQLSTATE 'TP537' USING MESSAGE = format('Cannot update GENERATED ALWAYS columns in table ''%s''.', TG_TABLE_NAME);
  END IF;
  NEW := jsonb_populate_record(NEW, jsonb_build_object(TG_ARGV[0], tsql.ticks(began), TG_ARGV[1], '9999-12-31 23:59:59.9999999'));
  RETURN NEW;
END $$;
CREATE FUNCTION tsql.keep_history() RETURNS trigger LANGUAGE plpgsql AS $$
BEGIN
  OLD := jsonb_populate_record(OLD, jsonb_build_object(TG_ARGV[0], tsql.ticks(timezone('utc', clock_timestamp()))));
  EXECUTE format('INSERT INTO %s SELECT ($1).*', TG_ARGV[1]) USING OLD;
  RETURN NULL;
END $$;
CREATE FUNCTION tsql.refuse_history() RETURNS trigger LANGUAGE plpgsql AS $$
BEGIN
  IF TG_OP = 'TRUNCATE' THEN
    RAISE SQLSTATE 'TP545' USING MESSAGE = format('Truncate failed on table ''%s'' because it is not a supported operation on system-versioned tables.', TG_TABLE_NAME);
  ELSIF pg_trigger_depth() < 2 THEN
    RAISE SQLSTATE 'TP559' USING MESSAGE = format('Cannot insert, update or delete rows in a temporal history table ''%s''.', TG_TABLE_NAME);
  END IF;
  RETURN NULL;
END $$;
CREATE FUNCTION tsql.min_active_rowversion() RETURNS bytea LANGUAGE sql AS $$ SELECT int8send(last_value + 1) FROM tsql.rowversions $$;
CREATE FUNCTION tsql.bytes_as_number(bytea) RETURNS bigint LANGUAGE sql IMMUTABLE AS $$ SELECT ('x' || encode($1, 'hex'))::bit(64)::bigint $$;
CREATE CAST (bytea AS bigint) WITH FUNCTION tsql.bytes_as_number(bytea) AS IMPLICIT;
CREATE FUNCTION tsql.as_bytes(text) RETURNS bytea LANGUAGE sql IMMUTABLE AS $$ SELECT convert_to($1, 'UTF8') $$;
CREATE FUNCTION tsql.as_bytes(bytea) RETURNS bytea LANGUAGE sql IMMUTABLE AS $$ SELECT $1 $$;
CREATE FUNCTION tsql.as_unicode(anyelement) RETURNS text LANGUAGE sql IMMUTABLE AS $$ SELECT $1::text $$;
CREATE FUNCTION tsql.as_page(text) RETURNS text LANGUAGE sql IMMUTABLE AS $$
  SELECT regexp_replace($1 COLLATE "C", '[^\u0001-\u00ff€‚ƒ„…†‡ˆ‰Š‹ŒŽ‘’“”•–—˜™š›œžŸ]', '?', 'g') $$;

CREATE FUNCTION tsql.plus(text, text) RETURNS text LANGUAGE sql IMMUTABLE AS $$ SELECT $1 || $2 $$;
CREATE OPERATOR tsql.+ (LEFTARG = text, RIGHTARG = text, FUNCTION = tsql.plus);
CREATE FUNCTION tsql.len(text) RETURNS int LANGUAGE sql IMMUTABLE AS $$ SELECT length(rtrim($1, ' ')) $$;
CREATE FUNCTION tsql.datalength(text) RETURNS bigint LANGUAGE sql IMMUTABLE AS $$ SELECT 2 * length($1)::bigint $$;
CREATE FUNCTION tsql.datalength(bytea) RETURNS bigint LANGUAGE sql IMMUTABLE AS $$ SELECT length($1)::bigint $$;
CREATE FUNCTION tsql.isnull(anyelement, anyelement) RETURNS anyelement LANGUAGE sql IMMUTABLE AS $$ SELECT coalesce($1, $2) $$;
CREATE FUNCTION tsql.charindex(text, text) RETURNS int LANGUAGE sql IMMUTABLE AS $$ SELECT strpos(lower($2 COLLATE "C"), lower($1 COLLATE "C")) $$;
CREATE FUNCTION tsql.newid() RETURNS uuid LANGUAGE sql VOLATILE AS $$ SELECT gen_random_uuid() $$;
CREATE FUNCTION tsql.getdate() RETURNS timestamp LANGUAGE sql STABLE AS $$ SELECT localtimestamp(3) $$;
CREATE FUNCTION tsql.sysdatetime() RETURNS timestamp LANGUAGE sql STABLE AS $$ SELECT localtimestamp $$;
CREATE FUNCTION tsql.sysutcdatetime() RETURNS timestamp LANGUAGE sql STABLE AS $$ SELECT timezone('utc', now()) $$;
CREATE FUNCTION tsql.sysdatetimeoffset() RETURNS timestamptz LANGUAGE sql STABLE AS $$ SELECT now() $$;
CREATE FUNCTION tsql.db_name() RETURNS text LANGUAGE sql STABLE AS $$ SELECT current_database()::text $$;
CREATE FUNCTION tsql.suser_sname() RETURNS text LANGUAGE sql STABLE AS $$ SELECT session_user::text $$;
CREATE FUNCTION tsql.schema_name() RETURNS text LANGUAGE sql STABLE AS $$ SELECT 'dbo' $$;
CREATE FUNCTION tsql.schema_id(text) RETURNS bigint LANGUAGE sql STABLE AS $$ SELECT oid::bigint FROM pg_namespace WHERE nspname = $1 $$;
CREATE FUNCTION tsql.schema_name(bigint) RETURNS text LANGUAGE sql STABLE AS $$ SELECT nspname::text FROM pg_namespace WHERE oid = $1 $$;
CREATE FUNCTION tsql.is_srvrolemember(text) RETURNS int LANGUAGE sql STABLE AS $$ SELECT rolsuper::int FROM pg_roles WHERE rolname = current_user $$;
CREATE FUNCTION tsql.parts(text) RETURNS text[] LANGUAGE sql IMMUTABLE AS $$
  SELECT array_agg(coalesce(replace(m[1], ']]', ']'), replace(m[2], '""', '"'), m[3]) ORDER BY place)
  FROM regexp_matches($1, '\[((?:[^\]]|\]\])*)\]|"((?:[^"]|"")*)"|([^.\[\]"]+)', 'g') WITH ORDINALITY AS found(m, place) $$;
-- said to be immutable, so that it is computed once a statement: each is planned when it is run
CREATE FUNCTION tsql.object_id(text) RETURNS bigint LANGUAGE sql IMMUTABLE AS $$
  SELECT c.oid::bigint FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace, tsql.parts($1) AS p
  WHERE c.relname = p[cardinality(p)] AND c.relkind IN ('r', 'v')
    AND (n.oid = pg_my_temp_schema() OR n.nspname = CASE WHEN cardinality(p) > 1 THEN p[cardinality(p) - 1] ELSE 'dbo' END)
  ORDER BY n.oid = pg_my_temp_schema() DESC LIMIT 1 $$;
CREATE FUNCTION tsql.object_id(text, text) RETURNS bigint LANGUAGE sql STABLE AS $$ SELECT tsql.object_id($1) $$;
CREATE FUNCTION tsql.object_schema_name(bigint) RETURNS text LANGUAGE sql STABLE AS $$
  SELECT n.nspname::text FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace WHERE c.oid = $1 $$;
CREATE FUNCTION tsql.object_name(bigint) RETURNS text LANGUAGE sql STABLE AS $$ SELECT relname::text FROM pg_class WHERE oid = $1 $$;
CREATE FUNCTION tsql.collationproperty(text, text) RETURNS int LANGUAGE sql IMMUTABLE AS $$
  SELECT CASE WHEN upper($2) <> 'CODEPAGE' THEN NULL WHEN $1 LIKE '%UTF8' THEN 65001 ELSE 1252 END $$;
CREATE FUNCTION tsql.serverproperty(text) RETURNS text LANGUAGE sql IMMUTABLE AS $$
  SELECT CASE lower($1) WHEN 'productversion' THEN '15.0.4000.0' WHEN 'edition' THEN 'Stand-in' WHEN 'collation' THEN 'SQL_Latin1_General_CP1_CI_AS' END $$;
CREATE FUNCTION tsql.has_perms_by_name(name text, class text, permission text) RETURNS int LANGUAGE plpgsql STABLE AS $$
BEGIN
  IF upper(class) = 'DATABASE' THEN
    RETURN has_database_privilege(current_database(), 'CREATE')::int | has_schema_privilege('dbo', 'CREATE')::int;
  ELSIF upper(class) = 'SCHEMA' THEN
    RETURN (coalesce(has_schema_privilege((SELECT oid FROM pg_namespace WHERE nspname = (tsql.parts(name))[1]), 'CREATE'), false))::int;
  ELSIF upper(permission) = 'VIEW CHANGE TRACKING' THEN
    RETURN has_table_privilege(tsql.object_id(name)::oid, 'SELECT')::int;
  ELSIF upper(permission) IN ('ALTER', 'CONTROL') THEN
    RETURN (SELECT pg_has_role(relowner, 'USAGE')::int FROM pg_class WHERE oid = tsql.object_id(name)::oid);
  END IF;
  RETURN has_table_privilege(tsql.object_id(name)::oid, permission)::int;
END $$;
CREATE AGGREGATE tsql.count_big(*) (SFUNC = int8inc, STYPE = int8, INITCOND = '0');
CREATE AGGREGATE tsql.count_big("any") (SFUNC = int8inc_any, STYPE = int8, INITCOND = '0');

CREATE VIEW sys.schemas AS SELECT nspname::text AS name, oid::bigint AS schema_id FROM pg_namespace
  WHERE nspname NOT LIKE 'pg\_%' AND nspname NOT IN ('tsql', 'sys', 'information_schema', 'public');
CREATE VIEW sys.databases AS SELECT datname::text AS name, oid::int AS database_id, 'ONLINE'::text AS state_desc,
  'SQL_Latin1_General_CP1_CI_AS'::text AS collation_name, 1::smallint AS snapshot_isolation_state, 0::smallint AS is_read_committed_snapshot_on,
  0::smallint AS is_read_only FROM pg_database;
CREATE VIEW sys.dm_exec_sessions AS SELECT pid::int AS session_id, application_name::text AS program_name, usename::text AS login_name
  FROM pg_stat_activity WHERE datname = current_database() AND backend_type = 'client backend';
CREATE VIEW sys.objects AS SELECT c.relname::text AS name, c.oid::bigint AS object_id, c.relnamespace::bigint AS schema_id,
  CASE c.relkind WHEN 'v' THEN 'V' ELSE 'U' END AS type, CASE WHEN p.relation IS NOT NULL THEN 2 WHEN h.history IS NOT NULL THEN 1 ELSE 0 END::smallint AS temporal_type, 0::smallint AS is_ms_shipped
  FROM pg_class c JOIN sys.schemas s ON s.schema_id = c.relnamespace::bigint
    LEFT JOIN tsql.periods p ON p.relation = c.oid LEFT JOIN tsql.periods h ON h.history = c.oid WHERE c.relkind IN ('r', 'v');
CREATE VIEW sys.tables AS SELECT * FROM sys.objects WHERE type = 'U';
CREATE VIEW sys.views AS SELECT * FROM sys.objects WHERE type = 'V';
CREATE VIEW sys.partitions AS SELECT c.oid::bigint AS object_id, 1 AS index_id, greatest(c.reltuples, 0)::bigint AS rows FROM pg_class c WHERE relkind = 'r';
CREATE VIEW sys.types AS SELECT base AS name, number AS user_type_id, number AS system_type_id, 0::smallint AS is_user_defined
  FROM unnest(ARRAY['bit','tinyint','smallint','int','bigint','decimal','numeric','money','smallmoney','real','float','char','varchar',
  'nchar','nvarchar','text','ntext','xml','binary','varbinary','image','rowversion','date','time','datetime','smalldatetime','datetime2',
  'datetimeoffset','uniqueidentifier','sql_variant','geography','geometry','hierarchyid','sysname']) WITH ORDINALITY AS t(base, number);
CREATE VIEW sys.columns AS
  SELECT a.attrelid::bigint AS object_id, a.attname::text AS name, a.attnum::int AS column_id, t.user_type_id, t.system_type_id,
    coalesce(d.max_length, -1) AS max_length, coalesce(d."precision", 0) AS "precision", coalesce(d.scale, 0) AS scale, d.collation_name,
    (NOT a.attnotnull)::int::smallint AS is_nullable, coalesce(d.is_identity, 0)::smallint AS is_identity,
    coalesce(d.is_computed, 0)::smallint AS is_computed, CASE a.attname WHEN p.starts THEN 1 WHEN p.ends THEN 2 ELSE 0 END::smallint AS generated_always_type, coalesce(f.oid::bigint, 0) AS default_object_id
  FROM pg_attribute a JOIN pg_class c ON c.oid = a.attrelid
    LEFT JOIN tsql.columns d ON d.relation = a.attrelid AND d.number = a.attnum
    LEFT JOIN tsql.periods p ON p.relation = a.attrelid
    LEFT JOIN pg_attrdef f ON f.adrelid = a.attrelid AND f.adnum = a.attnum AND a.attgenerated = '' AND coalesce(d.is_identity, 0) = 0 AND d.base <> 'rowversion'
    JOIN sys.types t ON t.name = coalesce(d.base, CASE format_type(a.atttypid, NULL) WHEN 'integer' THEN 'int' WHEN 'bigint' THEN 'bigint'
      WHEN 'smallint' THEN 'smallint' WHEN 'numeric' THEN 'decimal' WHEN 'double precision' THEN 'float' WHEN 'date' THEN 'date' ELSE 'nvarchar' END)
  WHERE a.attnum > 0 AND NOT a.attisdropped;
CREATE VIEW sys.default_constraints AS SELECT f.oid::bigint AS object_id, f.adrelid::bigint AS parent_object_id,
  '(' || regexp_replace(pg_get_expr(f.adbin, f.adrelid), '::[a-z ]+(\([0-9,]+\))?', '', 'g') || ')' AS definition FROM pg_attrdef f;
CREATE VIEW sys.indexes AS SELECT i.indrelid::bigint AS object_id, i.indexrelid::bigint AS index_id, c.relname::text AS name,
  i.indisprimary::int::smallint AS is_primary_key, i.indisunique::int::smallint AS is_unique, (i.indpred IS NOT NULL)::int::smallint AS has_filter,
  0::smallint AS is_disabled FROM pg_index i JOIN pg_class c ON c.oid = i.indexrelid;
CREATE VIEW sys.index_columns AS SELECT i.indrelid::bigint AS object_id, i.indexrelid::bigint AS index_id, k.place::int AS key_ordinal,
  k.number::int AS column_id, 0::smallint AS is_included_column FROM pg_index i, unnest(i.indkey::int[]) WITH ORDINALITY AS k(number, place);
CREATE VIEW sys.check_constraints AS SELECT conname::text AS name, conrelid::bigint AS parent_object_id, 0::smallint AS is_disabled,
  regexp_replace(regexp_replace(substr(pg_get_constraintdef(oid), 7), '::[a-z ]+(\([0-9,]+\))?', '', 'g'), '"([^"]+)"', '[\1]', 'g') AS definition
  FROM pg_constraint WHERE contype = 'c' AND conrelid <> 0;
CREATE VIEW sys.foreign_keys AS SELECT conname::text AS name, conrelid::bigint AS parent_object_id, confrelid::bigint AS referenced_object_id
  FROM pg_constraint WHERE contype = 'f';
CREATE VIEW sys.triggers AS SELECT tgname::text AS name, tgrelid::bigint AS parent_id, 0::smallint AS is_disabled, 0::smallint AS is_instead_of_trigger
  FROM pg_trigger WHERE NOT tgisinternal AND tgname NOT LIKE 'tsql\_%';
CREATE VIEW sys.extended_properties AS SELECT 1::smallint AS class, objoid::bigint AS major_id, objsubid::int AS minor_id, 'MS_Description'::text AS name,
  description AS value FROM pg_description WHERE classoid = 'pg_class'::regclass;

-- change tracking: a version for each commit that changed a tracked table, taken in the order of the commits
CREATE TABLE tsql.tracking (retention_period int NOT NULL, units text NOT NULL);
CREATE TABLE tsql.tracked (relation oid PRIMARY KEY, since bigint NOT NULL);
CREATE TABLE tsql.tracked_rows (relation oid NOT NULL, key jsonb NOT NULL, operation "char" NOT NULL, version bigint NOT NULL);
CREATE INDEX ON tsql.tracked_rows (relation, version);
CREATE SEQUENCE tsql.versions;
CREATE SCHEMA tsql_changes;
GRANT USAGE ON SCHEMA tsql_changes TO PUBLIC;
GRANT SELECT, INSERT, DELETE, UPDATE ON tsql.tracking, tsql.tracked, tsql.tracked_rows TO PUBLIC;
GRANT USAGE ON SEQUENCE tsql.versions TO PUBLIC;
CREATE FUNCTION tsql.next_version() RETURNS bigint LANGUAGE plpgsql AS $$
DECLARE held text := current_setting('tsql.version', true);
BEGIN
  -- one for a transaction: the lock lasts until it has ended
  IF held IS NULL OR split_part(held, ':', 1) <> txid_current()::text THEN
    PERFORM pg_advisory_xact_lock(7077);
    held := txid_current() || ':' || nextval('tsql.versions');
    PERFORM set_config('tsql.version', held, true);
  END IF;
  RETURN split_part(held, ':', 2)::bigint;
END $$;
CREATE FUNCTION tsql.track() RETURNS trigger LANGUAGE plpgsql AS $$
DECLARE version bigint := tsql.next_version(); old_key jsonb; new_key jsonb;
BEGIN
  IF TG_OP <> 'INSERT' THEN SELECT jsonb_object_agg(k, to_jsonb(OLD) -> k) INTO old_key FROM unnest(TG_ARGV) k; END IF;
  IF TG_OP <> 'DELETE' THEN SELECT jsonb_object_agg(k, to_jsonb(NEW) -> k) INTO new_key FROM unnest(TG_ARGV) k; END IF;
  IF old_key IS NOT NULL AND old_key IS DISTINCT FROM new_key THEN
    INSERT INTO tsql.tracked_rows VALUES (TG_RELID, old_key, 'D', version);
  END IF;
  IF new_key IS NOT NULL THEN
    INSERT INTO tsql.tracked_rows VALUES (TG_RELID, new_key, CASE WHEN old_key = new_key THEN 'U' ELSE 'I' END, version);
  END IF;
  RETURN NULL;
END $$;
CREATE FUNCTION tsql.track_emptied() RETURNS trigger LANGUAGE plpgsql AS $$
BEGIN
  UPDATE tsql.tracked SET since = tsql.next_version() WHERE relation = TG_RELID;
  RETURN NULL;
END $$;
CREATE FUNCTION tsql.enable_tracking(wanted regclass) RETURNS void LANGUAGE plpgsql AS $$
DECLARE keys text[]; columns text; listed text; shown text;
BEGIN
  SELECT array_agg(a.attname ORDER BY a.attnum), string_agg(format('%I %s', a.attname, format_type(a.atttypid, a.atttypmod)), ', ' ORDER BY a.attnum),
    string_agg(format('(r.key ->> %L)::%s', a.attname, format_type(a.atttypid, a.atttypmod)), ', ' ORDER BY a.attnum)
  INTO keys, columns, listed FROM pg_index i JOIN pg_attribute a ON a.attrelid = i.indrelid AND a.attnum = ANY (i.indkey)
  WHERE i.indrelid = wanted AND i.indisprimary;
  IF keys IS NULL THEN RAISE EXCEPTION 'Cannot enable change tracking on table %. Change tracking requires a primary key on the table.', wanted; END IF;
  IF NOT EXISTS (SELECT 1 FROM tsql.tracking) THEN RAISE EXCEPTION 'Change tracking must be enabled on the database before it can be enabled on table %.', wanted; END IF;
  INSERT INTO tsql.tracked VALUES (wanted, coalesce((SELECT max(version) FROM tsql.tracked_rows), 0));
  SELECT n.nspname || '.' || c.relname INTO shown FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace WHERE c.oid = wanted;
  EXECUTE format('CREATE CONSTRAINT TRIGGER tsql_track AFTER INSERT OR UPDATE OR DELETE ON %s DEFERRABLE INITIALLY DEFERRED FOR EACH ROW
    EXECUTE FUNCTION tsql.track(%s)', wanted, (SELECT string_agg(quote_literal(k), ', ') FROM unnest(keys) k));
  EXECUTE format('CREATE TRIGGER tsql_emptied AFTER TRUNCATE ON %s EXECUTE FUNCTION tsql.track_emptied()', wanted);
  -- of a table of that name that was dropped
  EXECUTE format('DROP FUNCTION IF EXISTS tsql_changes.%I(bigint)', shown);
  EXECUTE format('CREATE FUNCTION tsql_changes.%I(bigint) RETURNS TABLE (sys_change_version bigint, sys_change_creation_version bigint,
    sys_change_operation text, %s) LANGUAGE sql STABLE AS $f$
    SELECT r.version, r.created, CASE WHEN r.operation = ''D'' THEN ''D'' WHEN r.created > $1 THEN ''I'' ELSE ''U'' END, %s FROM (
      SELECT DISTINCT ON (key) key, version, operation, max(version) FILTER (WHERE operation = ''I'') OVER (PARTITION BY key) AS created
      FROM tsql.tracked_rows WHERE relation = %s ORDER BY key, version DESC, operation DESC) r WHERE r.version > $1 $f$', shown, columns, listed, wanted::oid);
END $$;
CREATE FUNCTION tsql.disable_tracking(wanted regclass) RETURNS void LANGUAGE plpgsql AS $$
BEGIN
  DELETE FROM tsql.tracked WHERE relation = wanted;
  DELETE FROM tsql.tracked_rows WHERE relation = wanted;
  EXECUTE format('DROP TRIGGER tsql_track ON %s; DROP TRIGGER tsql_emptied ON %s', wanted, wanted);
  EXECUTE (SELECT format('DROP FUNCTION tsql_changes.%I(bigint)', n.nspname || '.' || c.relname)
    FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace WHERE c.oid = wanted);
END $$;
CREATE FUNCTION tsql.change_tracking_current_version() RETURNS bigint LANGUAGE sql STABLE AS $$
  SELECT CASE WHEN EXISTS (SELECT 1 FROM tsql.tracking)
    THEN greatest(coalesce((SELECT max(version) FROM tsql.tracked_rows), 0), coalesce((SELECT max(since) FROM tsql.tracked), 0)) END $$;
CREATE FUNCTION tsql.change_tracking_min_valid_version(bigint) RETURNS bigint LANGUAGE sql STABLE AS $$
  SELECT since FROM tsql.tracked WHERE relation::bigint = $1 $$;
CREATE VIEW sys.change_tracking_databases AS SELECT oid::int AS database_id, t.retention_period, t.units AS retention_period_units_desc
  FROM pg_database, tsql.tracking t WHERE datname = current_database();
CREATE VIEW sys.change_tracking_tables AS SELECT relation::bigint AS object_id, since AS min_valid_version FROM tsql.tracked;

GRANT SELECT ON ALL TABLES IN SCHEMA sys TO PUBLIC;
