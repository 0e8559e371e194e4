-- Profiles, sealed credentials, observations. Times are UTC text as RFC 3339 writes them: every database sorts them alike.
CREATE TABLE profiles (
    id {key},
    name TEXT NOT NULL UNIQUE,
    provider TEXT NOT NULL DEFAULT '',
    country TEXT NOT NULL DEFAULT '',
    city TEXT NOT NULL DEFAULT '',
    protocol TEXT NOT NULL,
    digest TEXT NOT NULL,
    text TEXT NOT NULL,
    origin TEXT NOT NULL DEFAULT '',
    imported_at TEXT NOT NULL
);
CREATE TABLE credentials (
    id {key},
    label TEXT NOT NULL,
    kind TEXT NOT NULL,
    sealed {octets} NOT NULL,
    origin TEXT NOT NULL DEFAULT '',
    imported_at TEXT NOT NULL,
    CONSTRAINT one_secret_a_kind UNIQUE (label, kind)
);
CREATE TABLE observations (
    id {key},
    taken_at TEXT NOT NULL,
    role TEXT NOT NULL,
    profile TEXT NOT NULL DEFAULT '',
    verdict TEXT NOT NULL DEFAULT '',
    document TEXT NOT NULL
);
CREATE TABLE alembic_version (version_num TEXT NOT NULL);
