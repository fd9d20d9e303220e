-- When a stage began; what operators said of departures; which departure step a change is; and how fast leavers lost access.
ALTER TABLE identity ADD COLUMN since TEXT;
-- The roles that nothing gives it any more, each with the moment until which it is kept, as JSON.
ALTER TABLE identity ADD COLUMN kept_roles TEXT NOT NULL DEFAULT '{}';

CREATE TABLE departure (
    identity TEXT PRIMARY KEY REFERENCES identity(id), at TEXT NOT NULL, principal TEXT NOT NULL, comment TEXT NOT NULL, made TEXT NOT NULL
) STRICT;
CREATE TRIGGER departure_made AFTER INSERT ON departure BEGIN INSERT INTO touched (identity) VALUES (NEW.identity); END;
CREATE TRIGGER departure_changed AFTER UPDATE ON departure BEGIN INSERT INTO touched (identity) VALUES (NEW.identity); END;
CREATE TRIGGER departure_gone AFTER DELETE ON departure BEGIN INSERT INTO touched (identity) VALUES (OLD.identity); END;

ALTER TABLE change ADD COLUMN step INTEGER NOT NULL DEFAULT 0;
-- What we did to accounts and cannot be seen in them.
CREATE INDEX change_acts ON change (account, kind, settled) WHERE state = 'done' AND kind IN ('password', 'delete');

-- Who left, and from when on that was to be acted on: the moment that was due, or the one in which a source showed it.
CREATE TABLE leaver (
    id INTEGER PRIMARY KEY, identity TEXT NOT NULL REFERENCES identity(id), label TEXT NOT NULL, started TEXT NOT NULL, returned TEXT
) STRICT;
CREATE INDEX leaver_identity ON leaver (identity, id);
