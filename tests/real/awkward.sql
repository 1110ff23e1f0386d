-- Everything that a schema may hold, each part as awkward as found. Run as the site's own user.
CREATE SEQUENCE shared_ids START 100 INCREMENT 5 CACHE 10;
CREATE TABLE news (id bigint PRIMARY KEY DEFAULT nextval('shared_ids'), t text);
CREATE TABLE events (id bigint PRIMARY KEY DEFAULT nextval('shared_ids'), t text);
CREATE TABLE tickets (id int GENERATED ALWAYS AS IDENTITY (START WITH 1000 INCREMENT BY 10) PRIMARY KEY);
CREATE TABLE seats (id smallserial PRIMARY KEY);
CREATE SEQUENCE loose AS int MINVALUE 5 MAXVALUE 20 CYCLE;
SELECT nextval('loose'); INSERT INTO news (t) VALUES ('x'); INSERT INTO tickets DEFAULT VALUES;
INSERT INTO seats DEFAULT VALUES; INSERT INTO seats DEFAULT VALUES;

CREATE TABLE members (id int PRIMARY KEY, mail extensions.citext UNIQUE, tags hstore, t text);
INSERT INTO members VALUES (1, 'A@b.example', 'a=>1', 'tt');
CREATE INDEX members_t ON members USING gin (t extensions.gin_trgm_ops); CREATE INDEX members_h ON members USING gin (tags);

CREATE TABLE counted (id int PRIMARY KEY, n int); INSERT INTO counted VALUES (1, 2);
CREATE MATERIALIZED VIEW sums AS SELECT n, count(*) c FROM counted GROUP BY n; CREATE UNIQUE INDEX sums_n ON sums (n);
CREATE MATERIALIZED VIEW later AS SELECT n FROM sums WITH NO DATA;
CREATE VIEW seen WITH (security_barrier) AS SELECT * FROM counted;
CREATE VIEW small (x, y) AS SELECT id, n FROM seen WHERE n > 0 WITH CHECK OPTION; ALTER VIEW small ALTER COLUMN y SET DEFAULT 5;
COMMENT ON VIEW seen IS 'about it''s rows'; COMMENT ON COLUMN counted.n IS 'about n'; COMMENT ON MATERIALIZED VIEW sums IS 'm';

CREATE TABLE notes (id int PRIMARY KEY, owner text); INSERT INTO notes VALUES (1, 'live');
ALTER TABLE notes ENABLE ROW LEVEL SECURITY; CREATE POLICY mine ON notes FOR SELECT USING (owner = current_user);
CREATE POLICY adding ON notes AS RESTRICTIVE FOR INSERT WITH CHECK (id > 0); COMMENT ON POLICY mine ON notes IS 'p';
CREATE TABLE log (id int); CREATE RULE logged AS ON UPDATE TO counted DO ALSO INSERT INTO log VALUES (new.id);
CREATE RULE through AS ON INSERT TO seen DO INSTEAD INSERT INTO counted VALUES (new.id, new.n);

GRANT SELECT ON counted TO nostos_reader; GRANT UPDATE (n) ON counted TO nostos_reader WITH GRANT OPTION;
GRANT USAGE ON SEQUENCE shared_ids TO nostos_reader; GRANT SELECT ON seen TO public;
CREATE FUNCTION closed() RETURNS int LANGUAGE sql AS 'SELECT 1'; REVOKE ALL ON FUNCTION closed() FROM public;
GRANT EXECUTE ON FUNCTION closed() TO nostos_reader; GRANT USAGE ON SCHEMA public TO nostos_reader;
ALTER DEFAULT PRIVILEGES IN SCHEMA public GRANT SELECT ON TABLES TO nostos_reader;

CREATE TABLE visits (id bigint GENERATED ALWAYS AS IDENTITY, at date NOT NULL, kind text NOT NULL, n int DEFAULT 3,
  PRIMARY KEY (id, at, kind)) PARTITION BY RANGE (at);
CREATE TABLE visits_26 PARTITION OF visits FOR VALUES FROM ('2026-01-01') TO ('2027-01-01') PARTITION BY LIST (kind);
CREATE TABLE visits_26a PARTITION OF visits_26 FOR VALUES IN ('a'); ALTER TABLE visits_26a ALTER COLUMN n SET DEFAULT 7;
CREATE TABLE visits_26z PARTITION OF visits_26 DEFAULT; ALTER TABLE visits_26z ADD CONSTRAINT few CHECK (n < 100);
CREATE TABLE visits_rest PARTITION OF visits DEFAULT; CREATE INDEX visits_n ON visits (n);
CREATE INDEX only_here ON visits_26a (kind, n);
INSERT INTO visits (at, kind) VALUES ('2026-05-05', 'a'), ('2026-05-05', 'z'), ('2020-05-05', 'z');
CREATE TABLE hashed (id int PRIMARY KEY, t text) PARTITION BY HASH (id);
CREATE TABLE hashed_0 PARTITION OF hashed FOR VALUES WITH (modulus 2, remainder 0);
CREATE TABLE hashed_1 PARTITION OF hashed FOR VALUES WITH (modulus 2, remainder 1); INSERT INTO hashed VALUES (1, 'x'), (2, 'y');

CREATE TABLE things (id serial PRIMARY KEY, t text NOT NULL DEFAULT 'x', CHECK (t <> ''));
CREATE TABLE lamps (watts int, PRIMARY KEY (id)) INHERITS (things); ALTER TABLE lamps ALTER COLUMN t SET DEFAULT 'lamp';
INSERT INTO things (t) VALUES ('b'); INSERT INTO lamps (watts) VALUES (5);

CREATE TYPE span AS RANGE (subtype = float8); CREATE TYPE pt AS (x int, y int); CREATE TYPE seg AS (a pt, b pt);
CREATE DOMAIN pos AS int DEFAULT 1 NOT NULL CHECK (VALUE > 0); CREATE DOMAIN pos2 AS pos CHECK (VALUE < 100);
CREATE COLLATION german (provider = icu, locale = 'de-u-kn-true');
CREATE COLLATION anycase (provider = icu, locale = 'und-u-ks-level2', deterministic = false);
CREATE TYPE "Odd Name" AS ENUM ('it''s', 'b'); COMMENT ON TYPE pt IS 'a point';
CREATE TABLE types (id int PRIMARY KEY, s span, p pt, g seg, d pos, d2 pos2, w text COLLATE german,
  c text COLLATE anycase UNIQUE, o "Odd Name", arr pt[], r int4range, mr int4multirange, i interval, tz timetz, net inet,
  mac macaddr, xm xml, ts tsvector, mo money, bv bit varying(5), ln point, js json, jp jsonpath, oo oid, rc regclass,
  ch "char", nm name, n1 numeric(5,2)[], dd date[]);
INSERT INTO types VALUES (1, '[1,2)', '(1,2)', '("(1,2)","(3,4)")', 2, 3, 'ä', 'A', 'it''s', '{"(1,2)"}', '[1,5)',
  '{[1,3),[5,7)}', '1 day 2:00', '12:00+02', '10.0.0.1/8', '08:00:2b:01:02:03', '<a>x</a>', 'a:1 b:2', '12.30', B'101',
  '(1,2)', '{"a":  1}', '$.a', 5, 'pg_class', 'x', 'nm', '{1.2,NULL}', '{2026-01-01,infinity}');
CREATE INDEX types_r ON types USING gist (r); CREATE INDEX types_ts ON types USING gin (ts) WITH (fastupdate = off);

CREATE TABLE rooms (id int PRIMARY KEY, u int UNIQUE NULLS NOT DISTINCT, r int, during tsrange,
  EXCLUDE USING gist (r WITH =, during WITH &&) WHERE (r > 0), CONSTRAINT two UNIQUE (id, r),
  CONSTRAINT late UNIQUE (r, id) DEFERRABLE INITIALLY DEFERRED, UNIQUE (r) INCLUDE (u)) WITH (fillfactor = 70);
CREATE TABLE bookings (id int PRIMARY KEY, a int REFERENCES rooms ON DELETE SET NULL ON UPDATE CASCADE DEFERRABLE,
  a2 int, x int, y int); ALTER TABLE bookings ADD CONSTRAINT nv CHECK (a2 > 0) NOT VALID;
ALTER TABLE bookings ADD FOREIGN KEY (x, y) REFERENCES rooms (id, r) MATCH FULL NOT VALID;
CREATE TABLE tree (id int PRIMARY KEY, parent int REFERENCES tree DEFERRABLE INITIALLY DEFERRED); INSERT INTO tree VALUES (1, 2), (2, 1);
CREATE TABLE chicken (id int PRIMARY KEY, egg int); CREATE TABLE egg (id int PRIMARY KEY, chicken int REFERENCES chicken);
ALTER TABLE chicken ADD FOREIGN KEY (egg) REFERENCES egg;
INSERT INTO rooms VALUES (1, NULL, 1, '[2026-01-01,2026-02-01)'); INSERT INTO bookings VALUES (1, 1, 5);
ALTER TABLE bookings ALTER COLUMN x SET STATISTICS 500; ALTER TABLE bookings ALTER COLUMN y SET STORAGE PLAIN;
ALTER TABLE rooms REPLICA IDENTITY FULL; ALTER TABLE bookings CLUSTER ON bookings_pkey;
CREATE STATISTICS together ON id, a FROM bookings; COMMENT ON CONSTRAINT nv ON bookings IS 'c'; COMMENT ON INDEX bookings_pkey IS 'i';

CREATE FUNCTION f(a int, VARIADIC b int[] DEFAULT '{}') RETURNS SETOF record LANGUAGE sql STABLE SECURITY DEFINER
  SET search_path = public AS 'SELECT 1, 2';
CREATE FUNCTION f(a text) RETURNS text LANGUAGE plpgsql AS $x$ BEGIN RETURN a; END $x$;
CREATE PROCEDURE pr(INOUT x int) LANGUAGE plpgsql AS 'BEGIN x := x + 1; END';
CREATE AGGREGATE mysum(int) (sfunc = int4pl, stype = int, initcond = '0');
CREATE FUNCTION alike(int, int) RETURNS bool LANGUAGE sql IMMUTABLE AS 'SELECT $1 = $2';
CREATE OPERATOR === (leftarg = int, rightarg = int, function = alike);
CREATE TABLE sums_of (id int PRIMARY KEY, n int, s int GENERATED ALWAYS AS (n * 2) STORED); INSERT INTO sums_of VALUES (1, 1);
CREATE FUNCTION row_of(sums_of) RETURNS int LANGUAGE sql AS 'SELECT $1.n';
CREATE FUNCTION rows_of() RETURNS SETOF sums_of LANGUAGE sql AS 'SELECT * FROM sums_of'; COMMENT ON FUNCTION rows_of() IS 'r';
REVOKE ALL ON FUNCTION rows_of() FROM public; CREATE FUNCTION next_one(x int) RETURNS int LANGUAGE sql IMMUTABLE AS 'SELECT x + 1';
CREATE INDEX sums_next ON sums_of (next_one(n)); ALTER TABLE sums_of ADD CHECK (next_one(n) > 0);
ALTER TABLE sums_of ALTER COLUMN n SET DEFAULT next_one(3);
CREATE FUNCTION parsed(x int) RETURNS int LANGUAGE sql BEGIN ATOMIC SELECT n FROM sums_of WHERE id = x; END;
CREATE FUNCTION trg() RETURNS trigger LANGUAGE plpgsql AS 'BEGIN RETURN NEW; END';
CREATE TRIGGER t1 BEFORE UPDATE OF n ON sums_of FOR EACH ROW WHEN (old.n IS DISTINCT FROM new.n) EXECUTE FUNCTION trg();
CREATE CONSTRAINT TRIGGER t2 AFTER INSERT ON sums_of DEFERRABLE INITIALLY DEFERRED FOR EACH ROW EXECUTE FUNCTION trg();
CREATE TRIGGER t3 AFTER INSERT ON sums_of REFERENCING NEW TABLE AS nt FOR EACH STATEMENT EXECUTE FUNCTION trg();
ALTER TABLE sums_of DISABLE TRIGGER t1; ALTER TABLE sums_of ENABLE ALWAYS TRIGGER t3;
CREATE VIEW totals AS SELECT id, mysum(n) AS x FROM sums_of GROUP BY id;
CREATE TRIGGER t4 INSTEAD OF INSERT ON totals FOR EACH ROW EXECUTE FUNCTION trg();
COMMENT ON FUNCTION next_one(int) IS 'f'; COMMENT ON TRIGGER t1 ON sums_of IS 't';

CREATE TEXT SEARCH DICTIONARY plain (TEMPLATE = simple, stopwords = english);
CREATE TEXT SEARCH CONFIGURATION mine (COPY = english); ALTER TEXT SEARCH CONFIGURATION mine ALTER MAPPING FOR asciiword WITH plain;
CREATE TABLE texts (id int PRIMARY KEY, t text, v tsvector GENERATED ALWAYS AS (to_tsvector('public.mine', t)) STORED);
INSERT INTO texts VALUES (1, 'the dogs'); CREATE INDEX texts_v ON texts USING gin (v);

CREATE TABLE "Order" (id serial PRIMARY KEY, "group" text, "a""b" int, "100%" int, "ü x" text, "select" int);
CREATE INDEX "Idx %s" ON "Order" ("100%"); INSERT INTO "Order" ("group", "a""b", "100%") VALUES ('x', 1, 2);
CREATE TABLE "sch.tab" (id serial PRIMARY KEY); CREATE TABLE nokey (a int, b text); INSERT INTO nokey VALUES (1, 'x'), (1, 'x');
CREATE TABLE nocolumns (); CREATE TABLE uuids (id uuid PRIMARY KEY DEFAULT gen_random_uuid(), t timestamptz DEFAULT now());
INSERT INTO uuids DEFAULT VALUES; CREATE TABLE three (d date, n numeric(10,2), t time, PRIMARY KEY (d, n, t));
INSERT INTO three VALUES ('2026-01-01', 1.50, '12:00'); CREATE TABLE floats (f float8 PRIMARY KEY, b bool, c char(5));
INSERT INTO floats VALUES (0.1, true, 'a'); CREATE TABLE wide (id int PRIMARY KEY);
DO $$ BEGIN FOR i IN 1..120 LOOP EXECUTE format('ALTER TABLE wide ADD COLUMN c%s text', i); END LOOP; END $$; INSERT INTO wide VALUES (1);
