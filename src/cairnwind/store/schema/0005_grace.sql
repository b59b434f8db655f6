-- Graces of trips that are running: what is not known for so long trips, over restarts too.
CREATE TABLE grace (
    name TEXT PRIMARY KEY,
    since INTEGER NOT NULL,       -- nanoseconds since 1970
    span INTEGER NOT NULL         -- nanoseconds
) WITHOUT ROWID;
