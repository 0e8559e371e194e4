-- Who has opened a link, by a digest: the same may ask again for a moment, where the answer was lost on its way.
ALTER TABLE links ADD COLUMN opener TEXT NOT NULL DEFAULT '';
