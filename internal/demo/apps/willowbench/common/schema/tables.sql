CREATE TABLE bench_meta (
  name VARCHAR(64) NOT NULL PRIMARY KEY,
  value TEXT NOT NULL
) ENGINE=InnoDB DEFAULT CHARSET=utf8mb4;
CREATE TABLE bench_members (
  id INT UNSIGNED NOT NULL AUTO_INCREMENT PRIMARY KEY,
  name VARCHAR(60) NOT NULL,
  email VARCHAR(190) NOT NULL,
  hash VARCHAR(255) NOT NULL,
  role VARCHAR(20) NOT NULL,
  since DATETIME NOT NULL,
  UNIQUE KEY by_name (name)
) ENGINE=InnoDB DEFAULT CHARSET=utf8mb4;
CREATE TABLE bench_boards (
  id INT UNSIGNED NOT NULL AUTO_INCREMENT PRIMARY KEY,
  name VARCHAR(80) NOT NULL,
  about VARCHAR(200) NOT NULL
) ENGINE=InnoDB DEFAULT CHARSET=utf8mb4;
CREATE TABLE bench_threads (
  id INT UNSIGNED NOT NULL AUTO_INCREMENT PRIMARY KEY,
  board INT UNSIGNED NOT NULL,
  subject VARCHAR(160) NOT NULL,
  text MEDIUMTEXT NOT NULL,
  author VARCHAR(60) NOT NULL,
  begun DATETIME NOT NULL,
  KEY by_board (board, begun)
) ENGINE=InnoDB DEFAULT CHARSET=utf8mb4;
INSERT INTO bench_boards (name, about) VALUES
  ('General', 'Everything that fits nowhere else'),
  ('Gates and paddles', 'Keeping the works working'),
  ('Passage notes', 'Depths, stoppages, friendly winds'),
  ('The slop tray', 'Engines, oil and despair');
INSERT INTO bench_threads (board, subject, text, author, begun) VALUES
  (1, 'Say hello', 'New keepers, tell us which lock is yours and what you take in your tea.', 'Ottilie', '2026-09-01 09:00:00'),
  (2, 'Paddle gear at lock nine sticks again', 'Grease helps for a week. Has anybody tried to shim the rack?', 'Benno', '2026-09-12 17:32:00'),
  (3, 'Low pound above the aqueduct', 'A hand''s breadth down this morning; boats over two foot six should keep to the middle.', 'Merle', '2026-10-03 07:48:00'),
  (4, 'Blue smoke, then white, then none', 'It runs. I do not know why. I am afraid to switch it off.', 'Jasper', '2026-10-19 20:11:00');
