-- What was changed and how it was before, so that it can be taken back; when credentials were last accepted by a gateway;
-- what a list says of a profile without reading it: whose credentials it uses, which kinds, and what it lacks.
CREATE TABLE changes (
    number {key},
    made_at TEXT NOT NULL,
    what TEXT NOT NULL,
    removes INTEGER NOT NULL,
    undone INTEGER NOT NULL DEFAULT 0,
    document TEXT NOT NULL
);
ALTER TABLE credentials ADD COLUMN worked_at TEXT NOT NULL DEFAULT '';
ALTER TABLE credentials ADD COLUMN domain TEXT NOT NULL DEFAULT '';
ALTER TABLE profiles ADD COLUMN label TEXT NOT NULL DEFAULT '';
ALTER TABLE profiles ADD COLUMN needs TEXT NOT NULL DEFAULT '';
ALTER TABLE profiles ADD COLUMN lacks TEXT NOT NULL DEFAULT '';
