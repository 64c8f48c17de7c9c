package databasetest

// dialect is how the same things are said to an engine.
type dialect struct {
	version string      // of the server
	notes   string      // a table with a number and a text
	dated   string      // a table with a moment and a day
	schema  string      // a script with all that is hard to cut
	ran     int         // how many statements it has
	quoted  string      // how the body of its first row reads back
	rich    string      // a script of what a dump must bring back
	beyond  [][3]string // what no dump of ours brings back: how it is made, what is said, how it goes
	asks    []string    // queries and what they give, in turn; the last may change something
}

// dialects of the engines.
var dialects = map[string]dialect{
	"mariadb": {
		version: `^\d+\.\d+\.\d+$`,
		notes:   "CREATE TABLE notes (id INT NOT NULL PRIMARY KEY, text VARCHAR(100))",
		dated:   "CREATE TABLE d (id INT NOT NULL PRIMARY KEY, at DATETIME NOT NULL, on_day DATE NOT NULL)",
		schema: `-- a comment; with a semicolon
CREATE TABLE ink_entries (
  id INT UNSIGNED NOT NULL AUTO_INCREMENT,
  title VARCHAR(100) NOT NULL,
  body TEXT,
  PRIMARY KEY (id),
  KEY by_title (title)
) ENGINE=InnoDB DEFAULT CHARSET=utf8mb4;
/* another; one */
INSERT INTO ink_entries (title, body) VALUES ('it''s; here', 'ink_entries "quoted"\n-- no comment'), ('zwei – é', NULL);
# the last
INSERT INTO ` + "`ink_entries`" + ` (title) VALUES ('drei')`,
		ran: 3, quoted: "ink_entries \"quoted\"\n-- no comment",
		rich: `CREATE TABLE boats (id INT AUTO_INCREMENT PRIMARY KEY, name VARCHAR(50) NOT NULL, weight DECIMAL(8,2), photo BLOB, built DATETIME, flags BIT(3), note TEXT, upper_name VARCHAR(50) AS (UPPER(name)) STORED, UNIQUE KEY (name));
CREATE TABLE trips (id INT AUTO_INCREMENT PRIMARY KEY, boat INT NOT NULL, miles DOUBLE, FOREIGN KEY (boat) REFERENCES boats (id) ON DELETE CASCADE) AUTO_INCREMENT = 70;
INSERT INTO boats (name, weight, photo, built, flags, note) VALUES ('it''s "a" \\ boat', 12.50, 0x00ff2710, '2026-10-19 20:11:00', b'101', 'line\nbreak\t;'), ('zwei – 日本', NULL, '', NULL, NULL, '');
INSERT INTO trips (boat, miles) VALUES (1, 0.1), (2, -3);
CREATE VIEW z_near AS SELECT name FROM boats;
CREATE VIEW a_far AS SELECT * FROM z_near;
DELIMITER //
CREATE TRIGGER heavier BEFORE INSERT ON trips FOR EACH ROW BEGIN SET NEW.miles = NEW.miles + 1; SET NEW.miles = NEW.miles * 1; END//
CREATE PROCEDURE sail(IN far INT) BEGIN UPDATE trips SET miles = miles + far; END//
CREATE FUNCTION twice(n INT) RETURNS INT DETERMINISTIC RETURN n * 2//
DELIMITER ;`,
		asks: []string{
			"SELECT HEX(photo) FROM boats WHERE id = 1", "00FF2710",
			"SELECT COUNT(*) FROM boats WHERE note = '' AND photo = '' AND weight IS NULL", "1",
			"SELECT HEX(note) FROM boats WHERE id = 1", "6C696E650A627265616B093B", "SELECT flags + 0 FROM boats WHERE id = 1",
			"5", "SELECT upper_name FROM boats WHERE id = 2", "ZWEI – 日本",
			"SELECT COUNT(*) FROM a_far", "2", "SELECT twice(21)", "42", "SELECT SUM(miles) FROM trips", "-2.9",
		},
	},
	"postgresql": {
		version: `^\d+(\.\d+)?$`,
		notes:   "CREATE TABLE notes (id INT NOT NULL PRIMARY KEY, text VARCHAR(100))",
		dated:   "CREATE TABLE d (id INT NOT NULL PRIMARY KEY, at TIMESTAMP NOT NULL, on_day DATE NOT NULL)",
		schema: `-- a comment; with a semicolon
CREATE TABLE ink_entries (
  id SERIAL PRIMARY KEY,
  title VARCHAR(100) NOT NULL,
  body TEXT
);
/* another; /* nested; */ one */
CREATE FUNCTION ink_count() RETURNS bigint AS $body$ BEGIN /* ; */ RETURN (SELECT count(*) FROM ink_entries); END; $body$ LANGUAGE plpgsql;
COPY ink_entries (title, body) FROM stdin;
it's; here	ink_entries "quoted"\n-- no comment
zwei – é	\N
\.

INSERT INTO "ink_entries" (title) VALUES (E'dr\u0065i')`,
		ran: 4, quoted: "ink_entries \"quoted\"\n-- no comment",
		rich: `CREATE TYPE kind AS ENUM ('sail', 'it''s');
CREATE TABLE boats (id SERIAL PRIMARY KEY, name VARCHAR(50) NOT NULL UNIQUE, weight NUMERIC(8,2), photo BYTEA, built TIMESTAMPTZ, what kind, note TEXT DEFAULT 'none', upper_name TEXT GENERATED ALWAYS AS (upper(name)) STORED);
CREATE TABLE trips (id INT GENERATED ALWAYS AS IDENTITY (START 70) PRIMARY KEY, boat INT NOT NULL REFERENCES boats ON DELETE CASCADE, miles DOUBLE PRECISION CHECK (miles > -10));
CREATE INDEX far ON trips (miles) WHERE miles > 1;
INSERT INTO boats (name, weight, photo, built, what, note) VALUES (E'it''s "a" \\ boat', 12.50, '\x00ff2710', '2026-10-19 20:11:00Z', 'it''s', E'line\nbreak\t;'), ('zwei – 日本', NULL, '', NULL, NULL, '');
INSERT INTO trips (boat, miles) VALUES (1, 0.1), (2, -3);
CREATE VIEW z_near AS SELECT name FROM boats;
CREATE VIEW a_far AS SELECT * FROM z_near;
CREATE TYPE pair AS (a int, b kind);
CREATE FUNCTION first_of(p pair) RETURNS int AS $$ SELECT p.a $$ LANGUAGE sql;
CREATE RULE z_near_put AS ON INSERT TO z_near DO INSTEAD (INSERT INTO boats (name) VALUES (NEW.name); DELETE FROM trips WHERE miles > 1000);
CREATE FUNCTION heavier() RETURNS trigger AS $$ BEGIN NEW.miles = NEW.miles + 1; RETURN NEW; END; $$ LANGUAGE plpgsql;
CREATE TRIGGER heavier BEFORE INSERT ON trips FOR EACH ROW EXECUTE FUNCTION heavier();
SELECT setval('boats_id_seq', 41);`,
		beyond: [][3]string{
			{"CREATE DOMAIN depth AS int CHECK (VALUE > 0)", "domain depth", "DROP DOMAIN depth"},
			{"CREATE TABLE p (n int) PARTITION BY RANGE (n)", "partitioned table p", "DROP TABLE p"},
			{"CREATE MATERIALIZED VIEW m AS SELECT 1 AS n; CREATE INDEX m_n ON m (n)", "indexed materialized view m",
				"DROP MATERIALIZED VIEW m"},
		},
		asks: []string{
			"SELECT encode(photo, 'hex') FROM boats WHERE id = 1", "00ff2710",
			"SELECT count(*) FROM boats WHERE note = '' AND photo = '' AND weight IS NULL", "1",
			"SELECT encode(note::bytea, 'hex') FROM boats WHERE id = 1", "6c696e650a627265616b093b",
			"SELECT first_of(ROW(7, 'sail')::pair)", "7",
			"SELECT count(*) FROM pg_rules WHERE rulename = 'z_near_put' AND definition LIKE '%DELETE FROM trips%'", "1",
			"SELECT what FROM boats WHERE id = 1", "it's", "SELECT upper_name FROM boats WHERE id = 2", "ZWEI – 日本",
			"SELECT count(*) FROM a_far", "2", "SELECT sum(miles) FROM trips", "-2.9", "SELECT nextval('boats_id_seq')", "42",
			"SELECT max(id) FROM trips", "71",
			"INSERT INTO trips (boat, miles) VALUES (1, 1) RETURNING concat(id, '/', miles)", "72/2",
			"SELECT count(*) FROM pg_indexes WHERE indexname = 'far'", "1",
		},
	},
	"sqlite": {
		version: `^\d+\.\d+\.\d+$`,
		notes:   "CREATE TABLE notes (id INT NOT NULL PRIMARY KEY, text VARCHAR(100))",
		dated:   "CREATE TABLE d (id INT NOT NULL PRIMARY KEY, at DATETIME NOT NULL, on_day DATE NOT NULL)",
		schema: `-- a comment; with a semicolon
CREATE TABLE ink_entries (
  id INTEGER PRIMARY KEY AUTOINCREMENT,
  title VARCHAR(100) NOT NULL,
  body TEXT
);
/* another; one */
CREATE TRIGGER ink_shout AFTER INSERT ON ink_entries BEGIN UPDATE ink_entries SET title = title WHERE id = new.id; SELECT 1; END;
INSERT INTO ink_entries (title, body) VALUES ('it''s; here', 'ink_entries "quoted"
-- no comment'), ('zwei – é', NULL);
INSERT INTO [ink_entries] (title) VALUES ('drei')`,
		ran: 4, quoted: "ink_entries \"quoted\"\n-- no comment",
		rich: `CREATE TABLE boats (id INTEGER PRIMARY KEY AUTOINCREMENT, name VARCHAR(50) NOT NULL UNIQUE, weight NUMERIC, photo BLOB, built DATETIME, note TEXT, upper_name TEXT GENERATED ALWAYS AS (upper(name)) STORED);
CREATE TABLE trips (id INTEGER PRIMARY KEY, boat INT NOT NULL REFERENCES boats (id) ON DELETE CASCADE, miles DOUBLE);
CREATE INDEX far ON trips (miles);
INSERT INTO boats (name, weight, photo, built, note) VALUES ('it''s "a" \ boat', 12.5, X'00ff2710', '2026-10-19 20:11:00', 'line
break	;'), ('zwei – 日本', NULL, X'', NULL, '');
INSERT INTO trips (boat, miles) VALUES (1, 0.1), (2, -3);
CREATE VIEW a_far AS SELECT name FROM boats;
CREATE TRIGGER heavier AFTER INSERT ON trips BEGIN UPDATE trips SET miles = miles + 1 WHERE id = new.id; END;
UPDATE sqlite_sequence SET seq = 41 WHERE name = 'boats';`,
		asks: []string{
			"SELECT hex(photo) FROM boats WHERE id = 1", "00FF2710",
			"SELECT count(*) FROM boats WHERE note = '' AND length(photo) = 0 AND weight IS NULL", "1",
			"SELECT hex(note) FROM boats WHERE id = 1", "6C696E650A627265616B093B", "SELECT upper_name FROM boats WHERE id = 2",
			"ZWEI – 日本", "SELECT built FROM boats WHERE id = 1", "2026-10-19 20:11:00",
			"SELECT count(*) FROM a_far", "2", "SELECT sum(miles) FROM trips", "-2.9",
			"INSERT INTO boats (name) VALUES ('new') RETURNING id", "42",
		},
	},
}
