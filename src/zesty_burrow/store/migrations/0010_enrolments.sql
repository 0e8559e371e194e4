-- Devices that want to be in the list, and bundles that wait until their devices fetch them.
CREATE TABLE enrolments (
    key TEXT NOT NULL UNIQUE,
    name TEXT NOT NULL,
    kind TEXT NOT NULL,
    at TEXT NOT NULL
);
CREATE TABLE pickups (
    name TEXT NOT NULL UNIQUE,
    device TEXT NOT NULL,
    number BIGINT NOT NULL,
    data {octets} NOT NULL
);
