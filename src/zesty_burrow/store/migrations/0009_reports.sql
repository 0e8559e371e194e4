-- What devices have reported; on a device: where it reports to, and how many reports it has made.
CREATE TABLE reports (
    device TEXT NOT NULL UNIQUE,
    number BIGINT NOT NULL,
    taken_at TEXT NOT NULL,
    verdict TEXT NOT NULL,
    profile TEXT NOT NULL,
    digest TEXT NOT NULL,
    exits TEXT NOT NULL,
    codes TEXT NOT NULL
);
CREATE INDEX devices_by_key ON devices (key);
ALTER TABLE administrators ADD COLUMN report_to TEXT NOT NULL DEFAULT '';
ALTER TABLE administrators ADD COLUMN report_authority TEXT NOT NULL DEFAULT '';
ALTER TABLE administrators ADD COLUMN reports INTEGER NOT NULL DEFAULT 0;
