-- Verifications, each with its signed record. ``chain``: by which key; ``facts``: by what runs are compared.
CREATE TABLE runs (
    id {key},
    chain TEXT NOT NULL,
    number BIGINT NOT NULL,
    taken_at TEXT NOT NULL,
    device TEXT NOT NULL,
    profile TEXT NOT NULL,
    place TEXT NOT NULL,
    verdict TEXT NOT NULL,
    headline TEXT NOT NULL,
    exits TEXT NOT NULL,
    facts TEXT NOT NULL,
    round_trip DOUBLE PRECISION NOT NULL,
    record TEXT NOT NULL,
    UNIQUE (chain, number)
);
CREATE INDEX runs_by_profile ON runs (device, profile, id);
CREATE INDEX runs_by_time ON runs (taken_at)
