-- The journal: one row a command with its decision, a confirmed change, an input change, an end of a claim.
CREATE TABLE journal (
    seq INTEGER PRIMARY KEY,      -- the sequence number that the answer to a command carries
    wall INTEGER NOT NULL,        -- nanoseconds since 1970, UTC
    kind TEXT NOT NULL,           -- command, change, input, ended, failed, fault, link, start, shutdown, clock, journal
    subject TEXT NOT NULL,        -- the output, input or board; empty for the site
    text TEXT NOT NULL,
    command TEXT NOT NULL,        -- the command's id; empty if none
    source TEXT NOT NULL,
    data TEXT NOT NULL            -- JSON: what a replay needs
);
CREATE INDEX journal_by_subject ON journal (subject, seq);

-- The claims that stand, so that a start need not read the whole journal.
CREATE TABLE claim (
    output TEXT NOT NULL,
    slot TEXT NOT NULL,
    form TEXT NOT NULL,           -- JSON
    PRIMARY KEY (output, slot)
) WITHOUT ROWID;

-- The all-stop in force (key 'all-stop'), and what else the site as a whole remembers.
CREATE TABLE fact (
    name TEXT PRIMARY KEY,
    form TEXT NOT NULL            -- JSON
) WITHOUT ROWID;

CREATE TABLE lockout (
    output TEXT NOT NULL,
    name TEXT NOT NULL,
    form TEXT NOT NULL,           -- JSON
    PRIMARY KEY (output, name)
) WITHOUT ROWID;

-- Keys and console sessions: only hashes of what opens (SHA-256 of 32 random bytes).
CREATE TABLE key (
    id INTEGER PRIMARY KEY,
    name TEXT NOT NULL UNIQUE,
    role TEXT NOT NULL,
    hash TEXT NOT NULL UNIQUE,
    made INTEGER NOT NULL
);
CREATE TABLE session (
    hash TEXT PRIMARY KEY,
    key INTEGER NOT NULL REFERENCES key (id) ON DELETE CASCADE,
    made INTEGER NOT NULL,
    ends INTEGER NOT NULL
) WITHOUT ROWID;

-- Answers to commands that carried an Idempotency-Key, in the command's own transaction.
CREATE TABLE answer (
    scope TEXT NOT NULL,          -- key, method and path
    token TEXT NOT NULL,
    body TEXT NOT NULL,           -- hash of the request's body
    form TEXT NOT NULL,           -- JSON: the outcome
    made INTEGER NOT NULL,
    PRIMARY KEY (scope, token)
) WITHOUT ROWID;
CREATE INDEX answer_by_age ON answer (made);
