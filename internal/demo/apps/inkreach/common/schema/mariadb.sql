-- Inkreach's tables, and the first entries of a new journal.
CREATE TABLE ink_facts (
  name VARCHAR(64) NOT NULL PRIMARY KEY,
  value TEXT NOT NULL
) ENGINE=InnoDB DEFAULT CHARSET=utf8mb4;

CREATE TABLE ink_writers (
  id INT UNSIGNED NOT NULL AUTO_INCREMENT,
  name VARCHAR(60) NOT NULL,
  email VARCHAR(190) NOT NULL,
  hash VARCHAR(255) NOT NULL,
  PRIMARY KEY (id),
  UNIQUE KEY by_name (name)
) ENGINE=InnoDB DEFAULT CHARSET=utf8mb4;

CREATE TABLE ink_entries (
  id INT UNSIGNED NOT NULL AUTO_INCREMENT,
  title VARCHAR(200) NOT NULL,
  body MEDIUMTEXT NOT NULL,
  author VARCHAR(60) NOT NULL,
  published DATETIME NOT NULL,
  PRIMARY KEY (id),
  KEY by_date (published)
) ENGINE=InnoDB DEFAULT CHARSET=utf8mb4;

/* The account that comes with the file has a well-known password; whoever sets
   the journal up must replace it; see the kit. */
INSERT INTO ink_writers (id, name, email, hash) VALUES
  (1, 'inkreach', 'nobody@inkreach.example', '$2y$10$N9qo8uLOickgx2ZMRZoMyeIjZAgcfl7p92ldGxad68LJZdL17lhWy');

INSERT INTO ink_entries (title, body, author, published) VALUES
  ('The first boat through', 'At ten past nine the paddles went up and the chamber filled; at a quarter to ten a narrow boat with a bicycle on its roof slid out above the top gate.\n\nIt was the first boat through since the wall fell in; nobody cheered, because nobody wanted to be the one to jinx it. Then the steerer rang her bell.', 'The lock keepers', '2026-05-02 18:20:00'),
  ('What we found in the mud', 'Draining a pound teaches you what a town drops into its water: three keys, one of them to a piano; a bottle from a brewery that closed before the war; forty-one golf balls.\n\nThe list hangs in the hut; come by & claim what''s yours.', 'The lock keepers', '2026-06-14 08:05:00'),
  ('Evening classes begin again', 'From September the hut has light and heat again, and the classes return: knots on Mondays, engines on Wednesdays, and every second Friday the one about reading water; bring boots.', 'The lock keepers', '2026-08-30 16:45:00');

INSERT INTO ink_facts (name, value) VALUES ('release', '');
