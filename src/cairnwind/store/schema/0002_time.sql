-- Timers that are still to come.
CREATE TABLE timer (
    id INTEGER PRIMARY KEY,       -- the journal's sequence number of what set it
    form TEXT NOT NULL            -- JSON
);

-- Schedules that people have added, and what has been done to those of the site file (then form is empty).
CREATE TABLE schedule (
    name TEXT PRIMARY KEY,
    form TEXT NOT NULL,           -- JSON in the keys of the site file; empty for one of the site file
    state TEXT NOT NULL           -- JSON: enabled, skipped, the span it is in
) WITHOUT ROWID;

-- What each output did in each day of the site's zone.
CREATE TABLE usage (
    output TEXT NOT NULL,
    day TEXT NOT NULL,            -- 2026-11-23
    on_ns INTEGER NOT NULL,       -- time on
    switchings INTEGER NOT NULL,  -- times switched on
    joules REAL NOT NULL,         -- of its stated load; 0 where none is stated
    PRIMARY KEY (output, day)
) WITHOUT ROWID;

-- Readings of inputs and settings of outputs: single ones, and rolled up by the minute, hour and day.
CREATE TABLE reading (
    subject TEXT NOT NULL,
    step INTEGER NOT NULL,        -- seconds of the interval; 0: a single reading
    wall INTEGER NOT NULL,        -- nanoseconds UTC: when, or when the interval begins
    low REAL NOT NULL,
    mean REAL NOT NULL,
    high REAL NOT NULL,
    count INTEGER NOT NULL,       -- how many single readings
    PRIMARY KEY (subject, step, wall)
) WITHOUT ROWID;
CREATE INDEX reading_by_age ON reading (step, wall);

CREATE INDEX journal_by_time ON journal (wall);
