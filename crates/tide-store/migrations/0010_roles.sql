-- Roles that were given by hand. What is over is kept.
CREATE TABLE role_grant (
    id INTEGER PRIMARY KEY, identity TEXT NOT NULL REFERENCES identity(id), role TEXT NOT NULL, from_at TEXT, until_at TEXT,
    principal TEXT NOT NULL, comment TEXT NOT NULL, made TEXT NOT NULL
) STRICT;
CREATE INDEX role_grant_identity ON role_grant (identity);
CREATE TRIGGER role_given AFTER INSERT ON role_grant BEGIN INSERT INTO touched (identity) VALUES (NEW.identity); END;
CREATE TRIGGER role_changed AFTER UPDATE ON role_grant BEGIN INSERT INTO touched (identity) VALUES (NEW.identity); END;
