CREATE TABLE events (
    position INTEGER PRIMARY KEY AUTOINCREMENT,
    id TEXT NOT NULL UNIQUE,
    device TEXT NOT NULL,
    sequence BIGINT NOT NULL,
    kind TEXT NOT NULL,
    edition TEXT NOT NULL,
    line TEXT NOT NULL,
    UNIQUE (device, sequence)
);
CREATE TABLE facts (
    name TEXT PRIMARY KEY,
    value TEXT NOT NULL
);
CREATE TABLE heard (
    storefront TEXT PRIMARY KEY,
    at TEXT NOT NULL
);
