"""What is attached to tables, views and functions that are there: indexes of materialised views, rules, row security,
the states of triggers, comments, owners and rights; each as a statement, as the catalogue has it."""

from __future__ import annotations

from nostos.core.engines.postgresql.reflection import HERE, not_brought

_PLACE = "quote_ident(current_schema())"
_OURS = f"c.relnamespace = {HERE} AND {not_brought('c.oid', 'pg_class')}"
_ROLE = "CASE WHEN {0} = 0 THEN 'PUBLIC' ELSE quote_ident(pg_get_userbyid({0})) END"
_GRANTED = "CASE WHEN x.is_grantable THEN ' WITH GRANT OPTION' ELSE '' END"
_WHAT = ("CASE c.relkind WHEN 'S' THEN 'SEQUENCE' WHEN 'v' THEN 'VIEW' WHEN 'm' THEN 'MATERIALIZED VIEW' "
         "ELSE 'TABLE' END")

_VIEW_OPTIONS = (f"SELECT c.relname, format('ALTER %s %s.%I SET (%s)', {_WHAT}, {_PLACE}, c.relname, "
                 "array_to_string(c.reloptions, ', ')) FROM pg_class c "
                 f"WHERE {_OURS} AND c.relkind IN ('v', 'm') AND c.reloptions IS NOT NULL ORDER BY c.oid")
_VIEW_DEFAULTS = (f"SELECT c.relname, format('ALTER VIEW %s.%I ALTER COLUMN %I SET DEFAULT %s', {_PLACE}, c.relname, "
                  "a.attname, pg_get_expr(d.adbin, d.adrelid)) FROM pg_class c JOIN pg_attrdef d ON d.adrelid = c.oid "
                  "JOIN pg_attribute a ON a.attrelid = c.oid AND a.attnum = d.adnum "
                  f"WHERE {_OURS} AND c.relkind = 'v' ORDER BY c.oid, a.attnum")
_VIEW_INDEXES = ("SELECT i.relname, pg_get_indexdef(i.oid) FROM pg_index x JOIN pg_class c ON c.oid = x.indrelid "
                 f"JOIN pg_class i ON i.oid = x.indexrelid WHERE {_OURS} AND c.relkind = 'm' ORDER BY i.oid")
_RULES = ("SELECT r.rulename, pg_get_ruledef(r.oid) FROM pg_rewrite r JOIN pg_class c ON c.oid = r.ev_class "
          f"WHERE {_OURS} AND r.rulename <> '_RETURN' ORDER BY r.oid")
_RULE_STATES = (f"SELECT r.rulename, format('ALTER TABLE %s.%I %s RULE %I', {_PLACE}, c.relname, CASE r.ev_enabled "
                "WHEN 'D' THEN 'DISABLE' WHEN 'R' THEN 'ENABLE REPLICA' ELSE 'ENABLE ALWAYS' END, r.rulename) "
                f"FROM pg_rewrite r JOIN pg_class c ON c.oid = r.ev_class WHERE {_OURS} AND r.ev_enabled <> 'O'")
_TRIGGER_STATES = (f"SELECT t.tgname, format('ALTER TABLE %s.%I %s TRIGGER %I', {_PLACE}, c.relname, CASE t.tgenabled "
                   "WHEN 'D' THEN 'DISABLE' WHEN 'R' THEN 'ENABLE REPLICA' ELSE 'ENABLE ALWAYS' END, t.tgname) "
                   "FROM pg_trigger t JOIN pg_class c ON c.oid = t.tgrelid "
                   f"WHERE {_OURS} AND NOT t.tgisinternal AND t.tgenabled <> 'O' ORDER BY t.oid")
_POLICIES = (
    f"SELECT p.polname, format('CREATE POLICY %I ON %s.%I AS %s FOR %s TO %s%s%s', p.polname, {_PLACE}, c.relname, "
    "CASE WHEN p.polpermissive THEN 'PERMISSIVE' ELSE 'RESTRICTIVE' END, CASE p.polcmd WHEN 'r' THEN 'SELECT' "
    "WHEN 'a' THEN 'INSERT' WHEN 'w' THEN 'UPDATE' WHEN 'd' THEN 'DELETE' ELSE 'ALL' END, "
    f"(SELECT string_agg({_ROLE.format('r')}, ', ') FROM unnest(p.polroles) r), "
    "COALESCE(' USING (' || pg_get_expr(p.polqual, p.polrelid) || ')', ''), "
    "COALESCE(' WITH CHECK (' || pg_get_expr(p.polwithcheck, p.polrelid) || ')', '')) "
    f"FROM pg_policy p JOIN pg_class c ON c.oid = p.polrelid WHERE {_OURS} ORDER BY p.oid")
_SECURITY = (f"SELECT c.relname, format('ALTER TABLE %s.%I %s ROW LEVEL SECURITY', {_PLACE}, c.relname, w.word) "
             "FROM pg_class c, LATERAL (VALUES ('ENABLE', c.relrowsecurity), ('FORCE', c.relforcerowsecurity)) "
             f"w(word, so) WHERE {_OURS} AND w.so ORDER BY c.oid")
_STATISTICS = ("SELECT s.stxname, pg_get_statisticsobjdef(s.oid) FROM pg_statistic_ext s JOIN pg_class c "
               f"ON c.oid = s.stxrelid WHERE {_OURS} AND s.stxnamespace = {HERE} ORDER BY s.oid")
_COLUMN_STATES = (
    f"SELECT c.relname, format('ALTER TABLE %s.%I ALTER COLUMN %I SET %s', {_PLACE}, c.relname, a.attname, w.what) "
    "FROM pg_class c JOIN pg_attribute a ON a.attrelid = c.oid AND a.attnum > 0 AND NOT a.attisdropped "
    "JOIN pg_type t ON t.oid = a.atttypid, LATERAL (VALUES ('STATISTICS ' || a.attstattarget, a.attstattarget >= 0), "
    "('STORAGE ' || CASE a.attstorage WHEN 'p' THEN 'PLAIN' WHEN 'e' THEN 'EXTERNAL' WHEN 'm' THEN 'MAIN' ELSE "
    f"'EXTENDED' END, a.attstorage <> t.typstorage)) w(what, so) WHERE {_OURS} AND c.relkind IN ('r', 'p') AND w.so "
    "ORDER BY c.oid, a.attnum")
_IDENTITIES = (f"SELECT c.relname, format('ALTER TABLE %s.%I REPLICA IDENTITY %s', {_PLACE}, c.relname, "
               "CASE c.relreplident WHEN 'f' THEN 'FULL' WHEN 'n' THEN 'NOTHING' ELSE format('USING INDEX %I', "
               "(SELECT i.relname FROM pg_index x JOIN pg_class i ON i.oid = x.indexrelid WHERE x.indrelid = c.oid "
               f"AND x.indisreplident)) END) FROM pg_class c WHERE {_OURS} AND c.relkind IN ('r', 'p') "
               "AND c.relreplident <> 'd' ORDER BY c.oid")
_CLUSTERS = (f"SELECT c.relname, format('ALTER TABLE %s.%I CLUSTER ON %I', {_PLACE}, c.relname, i.relname) "
             "FROM pg_index x JOIN pg_class c ON c.oid = x.indrelid JOIN pg_class i ON i.oid = x.indexrelid "
             f"WHERE {_OURS} AND x.indisclustered ORDER BY c.oid")
# What a table's own statements say of it and its columns is said there.
_COMMENTS = (
    "SELECT i.identity, format('COMMENT ON %s %s IS %L', CASE WHEN i.type LIKE '% column' THEN 'COLUMN' WHEN i.type = "
    "'composite type' THEN 'TYPE' WHEN i.type = 'statistics object' THEN 'STATISTICS' WHEN i.type LIKE '% constraint' "
    "THEN 'CONSTRAINT' ELSE upper(i.type) END, i.identity, d.description) FROM pg_description d, "
    "LATERAL pg_identify_object(d.classoid, d.objoid, d.objsubid) i WHERE d.objoid >= 16384 "
    "AND i.type NOT IN ('table', 'table column', 'domain constraint', 'schema', 'extension') AND NOT EXISTS (SELECT 1 "
    "FROM pg_depend e WHERE e.classid = d.classoid AND e.objid = d.objoid AND e.deptype = 'e') AND (i.schema = "
    f"current_schema() OR (i.schema IS NULL AND position(' on ' || {_PLACE} || '.' IN i.identity) > 0)) "
    "ORDER BY d.classoid, d.objoid, d.objsubid")
_OWNERS = (
    f"SELECT c.relname, format('ALTER %s %s.%I OWNER TO %I', {_WHAT}, {_PLACE}, c.relname, "
    f"pg_get_userbyid(c.relowner)) FROM pg_class c WHERE {_OURS} AND c.relkind IN ('r', 'p', 'v', 'm', 'S') AND "
    "c.relowner <> (SELECT oid FROM pg_roles WHERE rolname = current_user) AND NOT EXISTS (SELECT 1 FROM pg_depend d "
    "WHERE c.relkind = 'S' AND d.classid = 'pg_class'::regclass AND d.objid = c.oid AND d.refobjsubid > 0 "
    "AND d.deptype IN ('a', 'i')) ORDER BY c.oid")
_FUNCTION_OWNERS = (
    "SELECT p.proname, format('ALTER ROUTINE %s OWNER TO %I', p.oid::regprocedure, pg_get_userbyid(p.proowner)) "
    f"FROM pg_proc p WHERE p.pronamespace = {HERE} AND {not_brought('p.oid', 'pg_proc')} AND p.prokind <> 'a' AND "
    "p.proowner <> (SELECT oid FROM pg_roles WHERE rolname = current_user) ORDER BY p.oid")
_GRANTS = (
    "SELECT c.relname, format('GRANT %s ON %s %s.%I TO %s%s', x.privilege_type, CASE c.relkind WHEN 'S' THEN "
    f"'SEQUENCE' ELSE 'TABLE' END, {_PLACE}, c.relname, {_ROLE.format('x.grantee')}, {_GRANTED}) FROM pg_class c, "
    f"LATERAL aclexplode(c.relacl) x WHERE {_OURS} AND c.relkind IN ('r', 'p', 'v', 'm', 'S') "
    "AND x.grantee <> c.relowner ORDER BY c.oid, x.grantee, x.privilege_type")
_COLUMN_GRANTS = (
    f"SELECT c.relname, format('GRANT %s (%I) ON %s.%I TO %s%s', x.privilege_type, a.attname, {_PLACE}, c.relname, "
    f"{_ROLE.format('x.grantee')}, {_GRANTED}) FROM pg_class c JOIN pg_attribute a ON a.attrelid = c.oid, "
    f"LATERAL aclexplode(a.attacl) x WHERE {_OURS} AND x.grantee <> c.relowner ORDER BY c.oid, a.attnum")
_FUNCTION_GRANTS = (
    f"SELECT p.proname, w.sql FROM pg_proc p, LATERAL (SELECT format('REVOKE ALL ON %s %s.%I(%s) FROM PUBLIC', "
    f"k.word, {_PLACE}, p.proname, pg_get_function_identity_arguments(p.oid)) AS sql FROM (SELECT CASE p.prokind "
    "WHEN 'p' THEN 'PROCEDURE' ELSE 'FUNCTION' END AS word) k WHERE NOT EXISTS (SELECT 1 FROM aclexplode(p.proacl) x "
    f"WHERE x.grantee = 0) UNION ALL SELECT format('GRANT EXECUTE ON %s %s.%I(%s) TO %s%s', CASE p.prokind WHEN 'p' "
    f"THEN 'PROCEDURE' ELSE 'FUNCTION' END, {_PLACE}, p.proname, pg_get_function_identity_arguments(p.oid), "
    f"{_ROLE.format('x.grantee')}, {_GRANTED}) FROM aclexplode(p.proacl) x WHERE x.grantee <> p.proowner) w "
    f"WHERE p.pronamespace = {HERE} AND p.proacl IS NOT NULL AND {not_brought('p.oid', 'pg_proc')} ORDER BY p.oid")
_SCHEMA_GRANTS = (
    f"SELECT n.nspname, format('GRANT %s ON SCHEMA %s TO %s%s', x.privilege_type, {_PLACE}, "
    f"{_ROLE.format('x.grantee')}, {_GRANTED}) FROM pg_namespace n, LATERAL aclexplode(n.nspacl) x "
    f"WHERE n.oid = {HERE} AND x.grantee <> n.nspowner")
_DEFAULTS = (
    f"SELECT d.defaclobjtype::text, format('ALTER DEFAULT PRIVILEGES FOR ROLE %I IN SCHEMA %s GRANT %s ON %s TO %s%s', "
    f"pg_get_userbyid(d.defaclrole), {_PLACE}, x.privilege_type, CASE d.defaclobjtype WHEN 'r' THEN 'TABLES' WHEN 'S' "
    f"THEN 'SEQUENCES' WHEN 'f' THEN 'FUNCTIONS' ELSE 'TYPES' END, {_ROLE.format('x.grantee')}, {_GRANTED}) "
    f"FROM pg_default_acl d, LATERAL aclexplode(d.defaclacl) x WHERE d.defaclnamespace = {HERE} "
    "AND x.grantee <> d.defaclrole")
STATEMENTS = (_VIEW_OPTIONS, _VIEW_DEFAULTS, _VIEW_INDEXES, _RULES, _RULE_STATES, _TRIGGER_STATES, _COLUMN_STATES,
              _IDENTITIES, _CLUSTERS, _STATISTICS, _POLICIES, _SECURITY, _COMMENTS)
# Who may do what: left out where the server knows no such role, or whoever copies may not say so. Rights before owners:
# who has given a table away may not give rights to it.
RIGHTS = (_GRANTS, _COLUMN_GRANTS, _FUNCTION_GRANTS, _SCHEMA_GRANTS, _DEFAULTS, _OWNERS, _FUNCTION_OWNERS)
# What is said of functions, and who may use them.
OF_ROUTINES = (_FUNCTION_GRANTS, _FUNCTION_OWNERS,
               f"SELECT s.identity, s.sql FROM ({_COMMENTS}) s(identity, sql) WHERE s.sql ~ "
               "'^COMMENT ON (FUNCTION|PROC)'")
# What roles may do with every table of a schema (`r`), or with every sequence (`S`): what a new one is given, too.
IN_COMMON = (
    f"SELECT format('GRANT %s ON {{}} TO %s%s', x.privilege_type, {_ROLE.format('x.grantee')}, "
    "CASE WHEN bool_and(x.is_grantable) THEN ' WITH GRANT OPTION' ELSE '' END) FROM pg_class c, "
    f"LATERAL aclexplode(c.relacl) x WHERE {_OURS} AND position(c.relkind::text IN %s) > 0 AND x.grantee <> c.relowner "
    "AND NOT c.relispartition AND c.relname <> %s AND c.relname NOT LIKE 'nostos%' "
    "GROUP BY x.privilege_type, x.grantee HAVING count(*) = (SELECT count(*) FROM pg_class c "
    f"WHERE {_OURS} AND position(c.relkind::text IN %s) > 0 AND NOT c.relispartition AND c.relname <> %s "
    "AND c.relname NOT LIKE 'nostos%')")
