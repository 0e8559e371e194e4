-- Who made a change: user and device, as the program knew them.
ALTER TABLE changes ADD COLUMN who TEXT NOT NULL DEFAULT ''
