-- Trips that are latched, and alarms that somebody has to see.
CREATE TABLE trip (
    name TEXT PRIMARY KEY,
    form TEXT NOT NULL            -- JSON
) WITHOUT ROWID;
CREATE TABLE alarm (
    name TEXT PRIMARY KEY,
    form TEXT NOT NULL            -- JSON
) WITHOUT ROWID;

-- What the pace of an output must not forget over a restart.
CREATE TABLE pace (
    output TEXT PRIMARY KEY,
    starts TEXT NOT NULL,         -- JSON: nanoseconds since 1970 of its last starts
    rested INTEGER NOT NULL       -- 0: it has to rest before it is started again
) WITHOUT ROWID;

-- Passcodes of guarded outputs: only their hashes (argon2id).
CREATE TABLE code (
    id INTEGER PRIMARY KEY,
    output TEXT NOT NULL,
    owner TEXT NOT NULL,
    hash TEXT NOT NULL,
    form TEXT NOT NULL,           -- JSON: days, hours, until when, whether for one time only
    made INTEGER NOT NULL,
    UNIQUE (output, owner)
);
