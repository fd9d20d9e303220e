-- Drafts of the rule set. An edition is one saved state: who saves must name the one that they began with.
CREATE TABLE draft (
    id INTEGER PRIMARY KEY, name TEXT NOT NULL, base INTEGER NOT NULL, files TEXT NOT NULL, edition INTEGER NOT NULL DEFAULT 1,
    principal TEXT NOT NULL, made TEXT NOT NULL, changed TEXT NOT NULL, changed_by TEXT NOT NULL,
    ended TEXT, published INTEGER
) STRICT;

-- What a published version was made of: the draft's name, or what was gone back to.
ALTER TABLE rule_set ADD COLUMN note TEXT NOT NULL DEFAULT '';

-- Values that we gave to attributes which others write too: only these are ours to take away.
CREATE TABLE given (
    account INTEGER NOT NULL REFERENCES account(id) ON DELETE CASCADE, attribute TEXT NOT NULL, vals BLOB NOT NULL,
    PRIMARY KEY (account, attribute)
) STRICT, WITHOUT ROWID;

-- First passwords that were set and may be shown once. The password itself is a sealed secret.
CREATE TABLE first_password (
    change INTEGER PRIMARY KEY REFERENCES change(id), account INTEGER NOT NULL REFERENCES account(id), identity TEXT NOT NULL,
    system TEXT NOT NULL, label TEXT NOT NULL, made TEXT NOT NULL, shown TEXT, shown_to TEXT
) STRICT;

-- What an account held before a reading found it changed: who changed a value there, if not we?
CREATE TABLE changed_there (
    account INTEGER PRIMARY KEY REFERENCES account(id) ON DELETE CASCADE, before BLOB NOT NULL, at TEXT NOT NULL
) STRICT;
