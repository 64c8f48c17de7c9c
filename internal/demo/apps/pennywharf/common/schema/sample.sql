-- A few wares to begin with.
INSERT INTO pw_wares (name, about, price) VALUES
  ('Mooring line, 12 m', 'Three strands, spliced eye, smells of the real thing.', '24.00'),
  ('Gate paint, black', 'Two litres cover both beams of a narrow lock; dries overnight.', '31.50'),
  ('Windlass', 'Forged, with a handle that does not pinch.', '18.00'),
  ('Fender, woven', 'Made in the long evenings; no two are alike.', '27.00'),
  ('Brass polish', 'For those who cannot leave it alone.', '6.20'),
  ('Tide table', 'For boats that go further than most.', '4.50');
