-- Credentials for one profile or one device; the administrator's own tags. What is there is for all profiles of its label.
CREATE TABLE credentials_with_scope (
    id {key},
    label TEXT NOT NULL,
    kind TEXT NOT NULL,
    sealed {octets} NOT NULL,
    origin TEXT NOT NULL DEFAULT '',
    imported_at TEXT NOT NULL,
    device TEXT NOT NULL DEFAULT '',
    profile TEXT NOT NULL DEFAULT '',
    CONSTRAINT one_secret_a_scope UNIQUE (label, device, profile, kind)
);
INSERT INTO credentials_with_scope (label, kind, sealed, origin, imported_at)
    SELECT label, kind, sealed, origin, imported_at FROM credentials;
DROP TABLE credentials;
ALTER TABLE credentials_with_scope RENAME TO credentials;
ALTER TABLE profiles ADD COLUMN tags TEXT NOT NULL DEFAULT '';
