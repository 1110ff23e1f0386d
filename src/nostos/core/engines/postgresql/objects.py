"""What tables of a schema rest on, and what rests on nothing: types, functions, sequences, collations and the like, as
the catalogue has them, each as the statement that makes it. Statements name their schema, as PostgreSQL writes it."""

from __future__ import annotations

from nostos.core.engines.postgresql.reflection import HERE, OPTIONS, not_brought

_PLACE = "quote_ident(current_schema())"
# Languages in which whoever may make functions may make them; in others only the server's administrator may.
LANGUAGES = "SELECT oid FROM pg_language WHERE lanpltrusted"


def _own(alias: str, catalogue: str, schema: str) -> str:
    return f"{alias}.{schema} = {HERE} AND {not_brought(f'{alias}.oid', catalogue)}"


_SCHEMAS = ("SELECT DISTINCT n.nspname, format('CREATE SCHEMA IF NOT EXISTS %I', n.nspname) FROM pg_extension x "
            f"JOIN pg_namespace n ON n.oid = x.extnamespace WHERE n.oid <> {HERE} AND n.nspname NOT LIKE 'pg\\_%' "
            "AND n.nspname <> 'public'")
_EXTENSIONS = ("SELECT x.extname, format('CREATE EXTENSION IF NOT EXISTS %I SCHEMA %I', x.extname, n.nspname) "
               "FROM pg_extension x JOIN pg_namespace n ON n.oid = x.extnamespace WHERE x.extname <> 'plpgsql' "
               "ORDER BY x.oid")
_COLLATIONS = (
    f"SELECT c.collname, format('CREATE COLLATION %s.%I (PROVIDER = %s, %s%s%s)', {_PLACE}, c.collname, "
    "CASE c.collprovider WHEN 'i' THEN 'icu' WHEN 'b' THEN 'builtin' ELSE 'libc' END, "
    "CASE c.collprovider WHEN 'c' THEN format('LC_COLLATE = %L, LC_CTYPE = %L', c.collcollate, c.collctype) "
    "ELSE format('LOCALE = %L', COALESCE(j ->> 'colllocale', j ->> 'colliculocale', j ->> 'collcollate')) END, "
    "CASE WHEN NOT c.collisdeterministic THEN ', DETERMINISTIC = false' ELSE '' END, "
    "COALESCE(', RULES = ' || quote_literal(j ->> 'collicurules'), '')) "
    "FROM pg_collation c, LATERAL to_jsonb(c) j "
    f"WHERE {_own('c', 'pg_collation', 'collnamespace')} ORDER BY c.oid")
_ENUMS = (f"SELECT t.typname, format('CREATE TYPE %s.%I AS ENUM (%s)', {_PLACE}, t.typname, "
          "string_agg(quote_literal(e.enumlabel), ', ' ORDER BY e.enumsortorder)) FROM pg_type t "
          f"JOIN pg_enum e ON e.enumtypid = t.oid WHERE {_own('t', 'pg_type', 'typnamespace')} "
          "GROUP BY t.oid, t.typname ORDER BY t.oid")
_DOMAINS = (f"SELECT t.typname, format('CREATE DOMAIN %s.%I AS %s%s%s%s', {_PLACE}, t.typname, "
            "format_type(t.typbasetype, t.typtypmod), COALESCE(' DEFAULT ' || t.typdefault, ''), "
            "CASE WHEN t.typnotnull THEN ' NOT NULL' ELSE '' END, COALESCE((SELECT ' ' || string_agg('CONSTRAINT ' "
            "|| quote_ident(k.conname) || ' ' || pg_get_constraintdef(k.oid), ' ' ORDER BY k.conname) "
            "FROM pg_constraint k WHERE k.contypid = t.oid AND k.contype = 'c'), '')) FROM pg_type t "
            f"WHERE t.typtype = 'd' AND {_own('t', 'pg_type', 'typnamespace')} ORDER BY t.oid")
_COMPOSITES = (f"SELECT t.typname, format('CREATE TYPE %s.%I AS (%s)', {_PLACE}, t.typname, "
               "(SELECT string_agg(quote_ident(a.attname) || ' ' || format_type(a.atttypid, a.atttypmod), ', ' "
               "ORDER BY a.attnum) FROM pg_attribute a WHERE a.attrelid = t.typrelid AND a.attnum > 0 "
               "AND NOT a.attisdropped)) FROM pg_type t JOIN pg_class c ON c.oid = t.typrelid AND c.relkind = 'c' "
               f"WHERE {_own('t', 'pg_type', 'typnamespace')} ORDER BY t.oid")
_RANGES = (f"SELECT t.typname, format('CREATE TYPE %s.%I AS RANGE (SUBTYPE = %s%s%s%s%s)', {_PLACE}, t.typname, "
           "format_type(r.rngsubtype, NULL), "
           "(SELECT format(', SUBTYPE_OPCLASS = %I.%I', n.nspname, o.opcname) FROM pg_opclass o JOIN pg_namespace n "
           "ON n.oid = o.opcnamespace WHERE o.oid = r.rngsubopc), "
           "COALESCE((SELECT format(', COLLATION = %I.%I', n.nspname, o.collname) FROM pg_collation o "
           "JOIN pg_namespace n ON n.oid = o.collnamespace WHERE o.oid = r.rngcollation), ''), "
           "CASE WHEN r.rngsubdiff::oid <> 0 THEN ', SUBTYPE_DIFF = ' || r.rngsubdiff ELSE '' END, "
           "COALESCE((SELECT format(', MULTIRANGE_TYPE_NAME = %I', m.typname) FROM pg_type m WHERE m.oid = "
           "(to_jsonb(r) ->> 'rngmultitypid')::oid), '')) FROM pg_range r JOIN pg_type t ON t.oid = r.rngtypid "
           f"WHERE {_own('t', 'pg_type', 'typnamespace')} ORDER BY t.oid")
_DICTIONARIES = (f"SELECT d.dictname, format('CREATE TEXT SEARCH DICTIONARY %s.%I (TEMPLATE = %I.%I%s)', {_PLACE}, "
                 "d.dictname, n.nspname, t.tmplname, COALESCE(', ' || d.dictinitoption, '')) FROM pg_ts_dict d "
                 "JOIN pg_ts_template t ON t.oid = d.dicttemplate JOIN pg_namespace n ON n.oid = t.tmplnamespace "
                 f"WHERE {_own('d', 'pg_ts_dict', 'dictnamespace')} ORDER BY d.oid")
_SEARCHES = (f"SELECT c.cfgname, format('CREATE TEXT SEARCH CONFIGURATION %s.%I (PARSER = %I.%I)', {_PLACE}, "
             "c.cfgname, n.nspname, p.prsname) FROM pg_ts_config c JOIN pg_ts_parser p ON p.oid = c.cfgparser "
             "JOIN pg_namespace n ON n.oid = p.prsnamespace "
             f"WHERE {_own('c', 'pg_ts_config', 'cfgnamespace')} ORDER BY c.oid")
_MAPPINGS = ("SELECT c.cfgname || '.' || k.alias, format('ALTER TEXT SEARCH CONFIGURATION %s.%I ADD MAPPING FOR %I "
             f"WITH %s', {_PLACE}, c.cfgname, k.alias, (SELECT string_agg(format('%I.%I', n.nspname, d.dictname), ', ' "
             "ORDER BY m.mapseqno) FROM pg_ts_config_map m JOIN pg_ts_dict d ON d.oid = m.mapdict JOIN pg_namespace n "
             "ON n.oid = d.dictnamespace WHERE m.mapcfg = c.oid AND m.maptokentype = k.tokid)) FROM pg_ts_config c, "
             "LATERAL ts_token_type(c.cfgparser) k WHERE EXISTS (SELECT 1 FROM pg_ts_config_map m WHERE m.mapcfg = "
             f"c.oid AND m.maptokentype = k.tokid) AND {_own('c', 'pg_ts_config', 'cfgnamespace')} "
             "ORDER BY c.oid, k.tokid")
_SEQUENCES = (f"SELECT s.relname, format('CREATE SEQUENCE IF NOT EXISTS %s.%I %s', {_PLACE}, s.relname, {OPTIONS}) "
              f"FROM pg_sequence q JOIN pg_class s ON s.oid = q.seqrelid WHERE {_own('s', 'pg_class', 'relnamespace')} "
              "AND NOT EXISTS (SELECT 1 FROM pg_depend d WHERE d.classid = 'pg_class'::regclass AND d.objid = s.oid "
              "AND d.refobjsubid > 0 AND d.deptype IN ('a', 'i')) ORDER BY s.oid")
_LEANS = ("EXISTS (SELECT 1 FROM pg_depend d JOIN pg_class c ON (d.refclassid = 'pg_class'::regclass "
          "AND d.refobjid = c.oid) OR (d.refclassid = 'pg_type'::regclass AND (d.refobjid = c.reltype OR d.refobjid = "
          "(SELECT t.typarray FROM pg_type t WHERE t.oid = c.reltype))) WHERE d.classid = 'pg_proc'::regclass "
          "AND d.objid = p.oid AND c.relnamespace = p.pronamespace AND c.relkind <> 'c')")
_OF_FUNCTIONS = (f"pg_get_functiondef(p.oid) FROM pg_proc p WHERE p.prokind IN ('f', 'p', 'w') AND p.prolang IN "
                 f"({LANGUAGES}) AND {_own('p', 'pg_proc', 'pronamespace')}")
FUNCTIONS = f"SELECT p.oid::regprocedure::text, {_OF_FUNCTIONS}"
# Those that take or give rows of the schema's tables, or are kept as parsed statements about them.
LEANING = f"SELECT p.oid::bigint, p.oid::regprocedure::text, {_OF_FUNCTIONS} AND {_LEANS} ORDER BY p.oid"
_AGGREGATES = (
    f"SELECT p.oid::regprocedure::text, format('CREATE AGGREGATE %s.%I (%s) (SFUNC = %s, STYPE = %s%s%s%s%s%s)', "
    f"{_PLACE}, p.proname, COALESCE(NULLIF(pg_get_function_identity_arguments(p.oid), ''), '*'), a.aggtransfn, "
    "format_type(a.aggtranstype, NULL), CASE WHEN a.aggfinalfn::oid <> 0 THEN ', FINALFUNC = ' || a.aggfinalfn "
    "ELSE '' END, CASE WHEN a.aggcombinefn::oid <> 0 THEN ', COMBINEFUNC = ' || a.aggcombinefn ELSE '' END, "
    "COALESCE(', INITCOND = ' || quote_literal(a.agginitval), ''), CASE WHEN a.aggsortop <> 0 THEN ', SORTOP = "
    "OPERATOR(' || (SELECT format('%I.%s', n.nspname, o.oprname) FROM pg_operator o JOIN pg_namespace n "
    "ON n.oid = o.oprnamespace WHERE o.oid = a.aggsortop) || ')' ELSE '' END, ', PARALLEL = ' || CASE p.proparallel "
    "WHEN 's' THEN 'SAFE' WHEN 'r' THEN 'RESTRICTED' ELSE 'UNSAFE' END) "
    f"FROM pg_proc p JOIN pg_aggregate a ON a.aggfnoid = p.oid WHERE a.aggkind = 'n' "
    f"AND {_own('p', 'pg_proc', 'pronamespace')} ORDER BY p.oid")
_OTHER = "(SELECT format('%I.%s', n.nspname, x.oprname) FROM pg_operator x JOIN pg_namespace n " \
         "ON n.oid = x.oprnamespace WHERE x.oid = o.{})"
_OPERATORS = (
    f"SELECT o.oid::regoperator::text, format('CREATE OPERATOR %s.%s (FUNCTION = %s%s%s%s%s%s%s%s%s)', {_PLACE}, "
    "o.oprname, o.oprcode, CASE WHEN o.oprleft <> 0 THEN ', LEFTARG = ' || format_type(o.oprleft, NULL) ELSE '' END, "
    "CASE WHEN o.oprright <> 0 THEN ', RIGHTARG = ' || format_type(o.oprright, NULL) ELSE '' END, "
    f"CASE WHEN o.oprcom <> 0 THEN ', COMMUTATOR = OPERATOR(' || {_OTHER.format('oprcom')} || ')' ELSE '' END, "
    f"CASE WHEN o.oprnegate <> 0 THEN ', NEGATOR = OPERATOR(' || {_OTHER.format('oprnegate')} || ')' ELSE '' END, "
    "CASE WHEN o.oprrest::oid <> 0 THEN ', RESTRICT = ' || o.oprrest ELSE '' END, "
    "CASE WHEN o.oprjoin::oid <> 0 THEN ', JOIN = ' || o.oprjoin ELSE '' END, "
    "CASE WHEN o.oprcanhash THEN ', HASHES' ELSE '' END, CASE WHEN o.oprcanmerge THEN ', MERGES' ELSE '' END) "
    f"FROM pg_operator o WHERE o.oprcode::oid <> 0 AND {_own('o', 'pg_operator', 'oprnamespace')} ORDER BY o.oid")
_CASTS = (
    "SELECT format('%s as %s', format_type(c.castsource, NULL), format_type(c.casttarget, NULL)), "
    "format('CREATE CAST (%s AS %s) %s%s', format_type(c.castsource, NULL), format_type(c.casttarget, NULL), "
    "CASE c.castmethod WHEN 'i' THEN 'WITH INOUT' WHEN 'b' THEN 'WITHOUT FUNCTION' ELSE 'WITH FUNCTION ' || "
    "c.castfunc::regprocedure END, CASE c.castcontext WHEN 'a' THEN ' AS ASSIGNMENT' WHEN 'i' THEN ' AS IMPLICIT' "
    "ELSE '' END) FROM pg_cast c JOIN pg_type s ON s.oid = c.castsource JOIN pg_type t ON t.oid = c.casttarget "
    f"WHERE {not_brought('c.oid', 'pg_cast')} AND (s.typnamespace = {HERE} OR t.typnamespace = {HERE}) ORDER BY c.oid")
# What leads into a schema (%s, twice), from objects in whose names one text is (%s) and another is not (%s).
HOLDING_ON = ("SELECT DISTINCT i.identity FROM pg_depend d JOIN (SELECT 'pg_class'::regclass AS catalogue, c.oid FROM "
              "pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace WHERE n.nspname = %s UNION ALL SELECT "
              "'pg_type'::regclass, t.oid FROM pg_type t JOIN pg_namespace n ON n.oid = t.typnamespace "
              "WHERE n.nspname = %s) o ON d.refclassid = o.catalogue AND d.refobjid = o.oid, "
              "LATERAL pg_identify_object(d.classid, d.objid, d.objsubid) i WHERE d.deptype IN ('n', 'a') "
              "AND NOT EXISTS (SELECT 1 FROM pg_depend e WHERE e.classid = d.refclassid AND e.objid = d.refobjid "
              "AND e.deptype = 'e') AND position(%s IN i.identity) > 0 AND position(quote_ident(%s) || '.' "
              "IN i.identity) = 0 AND COALESCE(i.schema, '') NOT LIKE 'pg\\_toast%'")
# What a schema rests on in other ones that no extension brought: a copy in a database of its own would not have it.
ELSEWHERE = (
    "SELECT DISTINCT w.name FROM (SELECT format('%s (%s.%s)', t.oid::regtype, c.relname, a.attname), t.oid, "
    "'pg_type'::regclass::oid, t.typnamespace FROM pg_class c JOIN pg_attribute a ON a.attrelid = c.oid "
    "AND a.attnum > 0 AND NOT a.attisdropped JOIN pg_type e ON e.oid = a.atttypid JOIN pg_type t "
    f"ON t.oid = COALESCE(NULLIF(e.typelem, 0), e.oid) WHERE c.relnamespace = {HERE} AND c.relkind IN ('r', 'p') "
    "UNION ALL SELECT format('%s (%s)', f.oid::regclass, v.relname), f.oid, 'pg_class'::regclass::oid, f.relnamespace "
    "FROM pg_class v JOIN pg_rewrite r ON r.ev_class = v.oid JOIN pg_depend d ON d.classid = 'pg_rewrite'::regclass "
    "AND d.objid = r.oid AND d.refclassid = 'pg_class'::regclass JOIN pg_class f ON f.oid = d.refobjid "
    f"WHERE v.relnamespace = {HERE} UNION ALL SELECT format('%s (%s)', p.oid::regprocedure, c.relname), p.oid, "
    "'pg_proc'::regclass::oid, p.pronamespace FROM pg_trigger t JOIN pg_class c ON c.oid = t.tgrelid "
    f"JOIN pg_proc p ON p.oid = t.tgfoid WHERE c.relnamespace = {HERE} AND NOT t.tgisinternal) "
    "w(name, oid, catalogue, place) JOIN pg_namespace n ON n.oid = w.place "
    f"WHERE w.place <> {HERE} AND n.nspname NOT LIKE 'pg\\_%' AND n.nspname <> 'information_schema' AND NOT EXISTS "
    "(SELECT 1 FROM pg_depend e WHERE e.classid = w.catalogue AND e.objid = w.oid AND e.deptype = 'e') ORDER BY 1")
# In an order in which most are found when what rests on them is made; where that does not do, they are tried again.
STATEMENTS = (_SCHEMAS, _EXTENSIONS, _COLLATIONS, _ENUMS, _COMPOSITES, _RANGES, _DOMAINS, _DICTIONARIES, _SEARCHES,
              _MAPPINGS, _SEQUENCES, f"{FUNCTIONS} AND NOT {_LEANS} ORDER BY p.oid", _AGGREGATES, _OPERATORS, _CASTS)
