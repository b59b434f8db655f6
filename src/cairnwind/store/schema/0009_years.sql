-- Two indexes of the same column.
DROP INDEX journal_by_time;

-- Words of the journal's rows, by which they are found; filled a little later than the journal, and from the newest back. Which rows
-- are in it says the fact 'words': {"from": n, "to": n}.
CREATE VIRTUAL TABLE journal_words USING fts5 (text, source, content = 'journal', content_rowid = 'seq', detail = 'column', tokenize = 'unicode61 remove_diacritics 2');

-- What the rows of the journal up to a number come to for an output, so that older rows may go.
CREATE TABLE checkpoint (
    output TEXT NOT NULL,
    seq INTEGER NOT NULL,
    wall INTEGER NOT NULL,        -- nanoseconds since 1970, UTC
    form TEXT NOT NULL,           -- JSON
    PRIMARY KEY (output, seq)
) WITHOUT ROWID;
