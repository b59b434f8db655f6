-- Keys may be limited, and say when they were used last.
ALTER TABLE key ADD COLUMN limits TEXT NOT NULL DEFAULT '{}';  -- JSON: outputs and groups, days, hours, until when
ALTER TABLE key ADD COLUMN used INTEGER NOT NULL DEFAULT 0;
ALTER TABLE key ADD COLUMN used_from TEXT NOT NULL DEFAULT '';
ALTER TABLE session ADD COLUMN device TEXT NOT NULL DEFAULT '';
ALTER TABLE session ADD COLUMN used INTEGER NOT NULL DEFAULT 0;

-- Numbers by which remotes without names know outputs and inputs: given once, and never to another.
CREATE TABLE place (
    remote TEXT NOT NULL,
    name TEXT NOT NULL,
    number INTEGER NOT NULL,
    PRIMARY KEY (remote, name),
    UNIQUE (remote, number)
) WITHOUT ROWID;

-- How far each way out has told what the journal has: what is after it is still to be delivered.
CREATE TABLE told (
    way TEXT PRIMARY KEY,
    seq INTEGER NOT NULL
) WITHOUT ROWID;

-- Rows up to there that a way out has been refused, and tells again later.
CREATE TABLE aside (
    way TEXT NOT NULL,
    seq INTEGER NOT NULL,
    PRIMARY KEY (way, seq)
) WITHOUT ROWID;
