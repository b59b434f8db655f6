-- What gates must remember when the service is started anew: one table for all of them, each with data of its own as JSON.
CREATE TABLE kept (
    gate TEXT NOT NULL,
    key TEXT NOT NULL,            -- the output or the rule that it is about
    data TEXT NOT NULL,
    PRIMARY KEY (gate, key)
) WITHOUT ROWID;

INSERT INTO kept SELECT 'pace', output,
    json_object('starts', json(starts), 'rested', json(CASE rested WHEN 0 THEN 'false' ELSE 'true' END)) FROM pace;
INSERT INTO kept SELECT 'trip', name, json_object('since', since, 'span', span) FROM grace;

DROP TABLE pace;
DROP TABLE grace;
