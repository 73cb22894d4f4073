CREATE TABLE IF NOT EXISTS logs (station text, at timestamptz, level numeric);
DELETE FROM logs;
INSERT INTO logs VALUES ('weir', '2026-11-01T06:00Z', 2.41), ('harbour', '2026-11-01T06:00Z', 2.18), ('point', '2026-11-01T06:00Z', 1.97);
