-- Every state of the site file that was applied: whole, so that going back to one needs nothing else.
CREATE TABLE edition (
    number INTEGER PRIMARY KEY,
    wall INTEGER NOT NULL,  -- nanoseconds UTC
    author TEXT NOT NULL,
    how TEXT NOT NULL,      -- what it came by: a start, a reload, a draft, a way back
    reason TEXT NOT NULL,
    text TEXT NOT NULL
);

-- Changes that are not applied yet, one draft for each person, on top of the edition that they were begun on.
CREATE TABLE draft (
    owner TEXT PRIMARY KEY,
    base INTEGER NOT NULL,
    form TEXT NOT NULL,     -- JSON: the changes, in their order
    wall INTEGER NOT NULL
) WITHOUT ROWID;

-- What things were called before: the journal, records and keys find them under both names.
CREATE TABLE renamed (
    edition INTEGER NOT NULL,
    old TEXT NOT NULL,
    new TEXT NOT NULL,
    PRIMARY KEY (edition, old)
) WITHOUT ROWID;
