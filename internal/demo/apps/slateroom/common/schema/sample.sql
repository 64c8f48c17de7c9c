INSERT INTO slate_courses (name, about, evening) VALUES
  ('Knots that hold', 'Seven of them, each for one purpose, tied with cold hands.', 'Mondays'),
  ('Small engines', 'What they want, and how they say so.', 'Wednesdays'),
  ('Reading water', 'Where it is deep, where it is quick, and where it lies.', 'every second Friday');
