-- Memberships that rules gave: they are ours to take away.
CREATE TABLE joined (
    identity TEXT NOT NULL REFERENCES identity(id), account INTEGER NOT NULL REFERENCES account(id), made TEXT NOT NULL,
    -- The member's name as it was written into the group, and as names are compared.
    member TEXT NOT NULL, folded TEXT NOT NULL,
    PRIMARY KEY (identity, account)
) STRICT, WITHOUT ROWID;
CREATE INDEX joined_folded ON joined (folded);
CREATE TRIGGER joined_made AFTER INSERT ON joined BEGIN INSERT INTO touched (identity) VALUES (NEW.identity); END;
CREATE TRIGGER joined_gone AFTER DELETE ON joined BEGIN INSERT INTO touched (identity) VALUES (OLD.identity); END;

-- When somebody who used nothing was claimed back.
CREATE TABLE claimed (identity TEXT PRIMARY KEY REFERENCES identity(id), at TEXT NOT NULL, principal TEXT NOT NULL) STRICT;
CREATE TRIGGER claimed_made AFTER INSERT ON claimed BEGIN INSERT INTO touched (identity) VALUES (NEW.identity); END;
CREATE TRIGGER claimed_changed AFTER UPDATE ON claimed BEGIN INSERT INTO touched (identity) VALUES (NEW.identity); END;

-- What was told to whom by a rule, once under each key, and whether it was carried.
CREATE TABLE told (
    id INTEGER PRIMARY KEY, key TEXT NOT NULL UNIQUE, rule TEXT NOT NULL, event TEXT NOT NULL, identity TEXT NOT NULL, label TEXT NOT NULL,
    about TEXT, recipients TEXT NOT NULL, text TEXT NOT NULL, call TEXT, made TEXT NOT NULL,
    sent TEXT, attempts INTEGER NOT NULL DEFAULT 0, tried TEXT, error TEXT, answer TEXT
) STRICT;
CREATE INDEX told_identity ON told (identity);
CREATE INDEX told_waiting ON told (id) WHERE sent IS NULL AND call IS NOT NULL;

-- The mark of the password hash that an account was given, carried from another directory.
CREATE TABLE carried (account INTEGER PRIMARY KEY REFERENCES account(id), mark TEXT NOT NULL) STRICT;

-- A password that was set in one place and goes to the others. The password itself is sealed elsewhere until all have it.
CREATE TABLE password_set (
    id INTEGER PRIMARY KEY, identity TEXT REFERENCES identity(id), account INTEGER REFERENCES account(id), origin TEXT NOT NULL,
    seal TEXT NOT NULL, must_change INTEGER NOT NULL, principal TEXT NOT NULL, made TEXT NOT NULL, ended TEXT, outcome TEXT
) STRICT;
CREATE INDEX password_set_identity ON password_set (identity) WHERE ended IS NULL;
CREATE INDEX password_set_account ON password_set (account) WHERE ended IS NULL;
CREATE TRIGGER password_was_set AFTER INSERT ON password_set BEGIN
    INSERT INTO touched (account, identity) VALUES (NEW.account, NEW.identity);
END;
