-- What the journal is searched by, besides its numbers and its subjects.
CREATE INDEX journal_by_kind ON journal (kind, seq);
CREATE INDEX journal_by_wall ON journal (wall);
