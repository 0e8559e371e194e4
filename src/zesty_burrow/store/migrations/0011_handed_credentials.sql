-- Which credentials went along, by when they were entered; empty where it is not known.
ALTER TABLE handovers ADD COLUMN credentials TEXT NOT NULL DEFAULT '';
