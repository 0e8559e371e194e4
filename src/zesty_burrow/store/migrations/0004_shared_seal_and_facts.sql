-- What certificates and revocation lists say, by their text: reading them takes long.
CREATE TABLE trust_facts (
    pem TEXT PRIMARY KEY,
    facts TEXT NOT NULL
);
-- What tells whether a key is the one that the secrets were sealed with, and the salt of a passphrase that several share.
CREATE TABLE seal (
    salt {octets} NOT NULL,
    proof {octets}
);
DROP TABLE alembic_version;
CREATE TABLE store_version (version INTEGER NOT NULL);
INSERT INTO store_version VALUES (0);
