-- Devices, which profile each should have, and what was handed over to it; this machine's own keys, sealed; on a device:
-- the administrators whose profiles its owner accepts, and what came from each.
CREATE TABLE devices (
    id {key},
    name TEXT NOT NULL UNIQUE,
    kind TEXT NOT NULL,
    owner TEXT NOT NULL,
    place TEXT NOT NULL,
    client TEXT NOT NULL,
    protocols TEXT NOT NULL,
    sign_ins TEXT NOT NULL,
    reach TEXT NOT NULL,
    folder TEXT NOT NULL,
    tags TEXT NOT NULL,
    key TEXT NOT NULL,
    number BIGINT NOT NULL DEFAULT 0
);
CREATE TABLE device_rules (
    number {key},
    profile TEXT NOT NULL,
    kind TEXT NOT NULL,
    owner TEXT NOT NULL,
    place TEXT NOT NULL,
    tag TEXT NOT NULL,
    device TEXT NOT NULL
);
CREATE TABLE handovers (
    device TEXT NOT NULL UNIQUE,
    profile TEXT NOT NULL,
    digest TEXT NOT NULL,
    form TEXT NOT NULL,
    state TEXT NOT NULL,
    at TEXT NOT NULL,
    cause TEXT NOT NULL,
    detail TEXT NOT NULL,
    expires TEXT NOT NULL
);
CREATE TABLE own_keys (
    name TEXT NOT NULL UNIQUE,
    sealed {octets} NOT NULL
);
CREATE TABLE administrators (
    key TEXT NOT NULL UNIQUE,
    name TEXT NOT NULL,
    accepted_at TEXT NOT NULL,
    number BIGINT NOT NULL,
    received TEXT NOT NULL
);
