-- One-time links: what is behind them is encrypted under keys that are not here, and so are the tokens that open them.
CREATE TABLE links (
    name TEXT NOT NULL UNIQUE,
    device TEXT NOT NULL,
    sealed {octets},
    until TEXT NOT NULL,
    opened_at TEXT NOT NULL,
    step TEXT NOT NULL,
    step_at TEXT NOT NULL
);
