-- Verifications, each with its signed record. ``chain``: by which key; ``facts``: by what runs are compared;
-- ``earlier``: the run before of the same profile on the same device, where it differs from it, else 0.
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
    earlier BIGINT NOT NULL,
    UNIQUE (chain, number)
);
CREATE INDEX runs_by_profile ON runs (device, profile, id);
CREATE INDEX runs_that_differ ON runs (id) WHERE earlier > 0;
CREATE INDEX runs_by_time ON runs (taken_at)
