-- What a database of MariaDB's may hold, each part as awkward as found. For the server's own client.
SET sql_mode = '';
CREATE TABLE shops (id int AUTO_INCREMENT PRIMARY KEY, name varchar(40) UNIQUE) COMMENT 'it''s shops';
CREATE TABLE orders (id bigint unsigned AUTO_INCREMENT PRIMARY KEY, shop int, parent bigint unsigned,
  total decimal(10,2) NOT NULL DEFAULT 0.00 CHECK (total >= 0), CONSTRAINT fk_shop FOREIGN KEY (shop) REFERENCES shops (id)
  ON DELETE SET NULL ON UPDATE CASCADE, CONSTRAINT fk_self FOREIGN KEY (parent) REFERENCES orders (id) ON DELETE CASCADE,
  CONSTRAINT sane CHECK (total < 1000000), KEY t (total DESC));
CREATE TABLE hen (id int PRIMARY KEY, egg int); CREATE TABLE egg (id int PRIMARY KEY, hen int, FOREIGN KEY (hen) REFERENCES hen (id));
ALTER TABLE hen ADD FOREIGN KEY (egg) REFERENCES egg (id);
INSERT INTO shops VALUES (1, 'x'); INSERT INTO orders VALUES (2, 1, NULL, 5), (1, 1, 2, 6);
CREATE TABLE made (id int PRIMARY KEY, a int, b int AS (a * 2) VIRTUAL, c int AS (a + 1) PERSISTENT,
  d varchar(40) DEFAULT (concat('x', uuid())), e timestamp NOT NULL DEFAULT current_timestamp() ON UPDATE current_timestamp(),
  f datetime(6) DEFAULT current_timestamp(6), g int INVISIBLE DEFAULT 5, h json, KEY kb (b), u uuid DEFAULT uuid(), ip inet6,
  UNIQUE KEY uc (c));
INSERT INTO made (id, a, h, ip) VALUES (1, 5, '{"a": 1}', '::1');
CREATE TABLE types (id int PRIMARY KEY, ti tinyint(1) unsigned zerofill, mi mediumint, y year, b bit(5), f float, d double,
  dc decimal(65,30), dt date, t time(3), ts timestamp NULL, en enum('a','it''s'), s set('x','y'), bin binary(4),
  vb varbinary(20), tb tinyblob, lb longblob, lt longtext, ch char(5) CHARACTER SET latin1, p point, gm geometry,
  ro varchar(10) COLLATE utf8mb4_bin, cmp text COMPRESSED, zero datetime);
INSERT INTO types VALUES (1, 5, -5, 1999, b'10101', 0.1, 1e300, 1.000000000000000000000000000001, '2026-01-01',
  '-100:00:00.123', '2026-01-01 00:00:00', 'it''s', 'x,y', 'ab', x'00ff', x'00', x'ff00', 'ä🌙', 'é', POINT(1,2),
  ST_GeomFromText('LINESTRING(0 0,1 1)'), 'X', 'compressed', '0000-00-00 00:00:00');
CREATE FULLTEXT INDEX ft ON types (lt); CREATE TABLE sp (id int PRIMARY KEY, p point NOT NULL, SPATIAL INDEX (p));
INSERT INTO sp VALUES (1, POINT(3,4));
CREATE TABLE a (id int AUTO_INCREMENT PRIMARY KEY, n int); CREATE TABLE log (id int AUTO_INCREMENT PRIMARY KEY, t text);
INSERT INTO a VALUES (1, 2);
CREATE VIEW zlast AS SELECT * FROM a; CREATE VIEW first AS SELECT * FROM zlast;
CREATE ALGORITHM=TEMPTABLE VIEW agg AS SELECT n, count(*) c FROM a GROUP BY n;
CREATE VIEW checked AS SELECT * FROM a WHERE n > 0 WITH CASCADED CHECK OPTION;
CREATE SQL SECURITY INVOKER VIEW inv AS SELECT 'a.b `c` "d"' AS q, a.id FROM a;
DELIMITER //
CREATE FUNCTION twice(x int) RETURNS int DETERMINISTIC BEGIN RETURN x * 2; END //
CREATE PROCEDURE p(IN x int, OUT y int) BEGIN SELECT n INTO y FROM a WHERE id = x; END //
CREATE TRIGGER `tr` BEFORE INSERT ON `a` FOR EACH ROW BEGIN SET NEW.n = twice(NEW.n); INSERT INTO log (t) VALUES ('x'); END //
CREATE TRIGGER `tr2` BEFORE INSERT ON `a` FOR EACH ROW BEGIN SET NEW.n = NEW.n + 1; END //
SET sql_mode = 'ANSI_QUOTES,PIPES_AS_CONCAT' //
CREATE TRIGGER `tr3` BEFORE UPDATE ON `a` FOR EACH ROW BEGIN INSERT INTO "log" (t) VALUES ('a' || 'b'); END //
SET sql_mode = '' //
CREATE VIEW v AS SELECT twice(n) FROM a //
DELIMITER ;
INSERT INTO a (n) VALUES (3);
CREATE SEQUENCE sq START WITH 100 INCREMENT BY 10 NOCACHE; CREATE TABLE s (id int PRIMARY KEY DEFAULT (NEXT VALUE FOR sq), t int);
INSERT INTO s (t) VALUES (1);
CREATE TABLE kept (id int PRIMARY KEY, t int) WITH SYSTEM VERSIONING; INSERT INTO kept VALUES (1, 2); UPDATE kept SET t = 3;
CREATE TABLE parts (id int NOT NULL, at date NOT NULL, PRIMARY KEY (id, at)) PARTITION BY RANGE (YEAR(at))
  (PARTITION p0 VALUES LESS THAN (2026), PARTITION p1 VALUES LESS THAN MAXVALUE);
INSERT INTO parts VALUES (1, '2025-01-01'), (2, '2026-02-02');
CREATE TABLE m (id int PRIMARY KEY, t text, FULLTEXT (t)) ENGINE=MyISAM; INSERT INTO m VALUES (1, 'words here');
CREATE TABLE mem (id int PRIMARY KEY) ENGINE=MEMORY; INSERT INTO mem VALUES (1);
CREATE TABLE small (id int PRIMARY KEY, t varchar(300)) ROW_FORMAT=COMPRESSED KEY_BLOCK_SIZE=8;
CREATE TABLE `order` (`select` int PRIMARY KEY, `a``b` int, `per%cent` int, `ü x` text, `dot.ted` int);
INSERT INTO `order` VALUES (1, 2, 3, 'x', 4); CREATE INDEX `i %s` ON `order` (`per%cent`); CREATE TABLE `tab-le %s` (id int PRIMARY KEY);
CREATE TABLE `Upper` (id int PRIMARY KEY); CREATE TABLE nokey (a int, b text); INSERT INTO nokey VALUES (1, 'x'), (1, 'x');
CREATE TABLE fpk (f double PRIMARY KEY); INSERT INTO fpk VALUES (0.1);
CREATE TABLE tp (t varchar(50) COLLATE utf8mb4_general_ci PRIMARY KEY); INSERT INTO tp VALUES ('Ä'), ('b ');
CREATE TABLE bp (b binary(16) PRIMARY KEY); INSERT INTO bp VALUES (unhex('00ff'));
