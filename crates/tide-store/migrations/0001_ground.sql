-- The ground: everything that a decision is made from, and everything that was done.
-- Instants are text in UTC with milliseconds, so that they sort as they read.

CREATE TABLE meta (name TEXT PRIMARY KEY, value TEXT NOT NULL) STRICT;

-- Who acts: an operator, a token, a system, the service itself.
CREATE TABLE principal (
    id TEXT PRIMARY KEY, kind TEXT NOT NULL, name TEXT NOT NULL,
    made TEXT NOT NULL, ended TEXT
) STRICT;
-- Names are unique by kind. An operator's name is never given again, since rules and the journal name operators; a system that was
-- removed may be added again.
CREATE UNIQUE INDEX principal_operator ON principal (name) WHERE kind = 'operator';
CREATE UNIQUE INDEX principal_system ON principal (name) WHERE kind = 'system' AND ended IS NULL;
CREATE TABLE token (
    id TEXT PRIMARY KEY, principal TEXT NOT NULL REFERENCES principal(id), hash BLOB NOT NULL UNIQUE,
    made TEXT NOT NULL, expires TEXT, ended TEXT
) STRICT;
-- A session ends with the token that it was begun with.
CREATE TABLE session (
    id TEXT PRIMARY KEY, principal TEXT NOT NULL REFERENCES principal(id), token TEXT NOT NULL REFERENCES token(id),
    hash BLOB NOT NULL UNIQUE,
    made TEXT NOT NULL, expires TEXT NOT NULL, ended TEXT
) STRICT;

-- Secrets, sealed with a key of their own, which is sealed with the master key.
CREATE TABLE secret (
    owner TEXT NOT NULL, field TEXT NOT NULL, key_id TEXT NOT NULL,
    wrapped BLOB NOT NULL, sealed BLOB NOT NULL, made TEXT NOT NULL, PRIMARY KEY (owner, field)
) STRICT;

CREATE TABLE system (
    name TEXT PRIMARY KEY, kind TEXT NOT NULL, settings TEXT NOT NULL,
    writable TEXT NOT NULL DEFAULT '[]',     -- types that may be written; none is the default
    armed INTEGER NOT NULL DEFAULT 0, paused INTEGER NOT NULL DEFAULT 0,
    schema TEXT NOT NULL DEFAULT '{}', checked TEXT, checked_at TEXT, made TEXT NOT NULL
) STRICT;

-- One enumeration of one type of one system. Absence follows from a complete one only.
CREATE TABLE reading (
    id INTEGER PRIMARY KEY, system TEXT NOT NULL, object TEXT NOT NULL, started TEXT NOT NULL,
    ended TEXT, state TEXT NOT NULL, seen INTEGER NOT NULL DEFAULT 0, error TEXT
) STRICT;
CREATE INDEX reading_system ON reading (system, object, id);

CREATE TABLE account (
    id INTEGER PRIMARY KEY, system TEXT NOT NULL, object TEXT NOT NULL, key TEXT NOT NULL,
    name TEXT NOT NULL, purpose TEXT NOT NULL DEFAULT '', attributes BLOB NOT NULL, hash BLOB NOT NULL, fault TEXT,
    first_seen TEXT NOT NULL, seen TEXT NOT NULL, reading INTEGER, written TEXT, absent_since TEXT,
    UNIQUE (system, key)
) STRICT;
CREATE INDEX account_object ON account (system, object);

-- References between accounts, and their reverse.
CREATE TABLE account_reference (
    account INTEGER NOT NULL REFERENCES account(id) ON DELETE CASCADE, attribute TEXT NOT NULL,
    raw TEXT NOT NULL, target INTEGER, PRIMARY KEY (account, attribute, raw)
) STRICT, WITHOUT ROWID;
CREATE INDEX account_reference_target ON account_reference (target);
CREATE TABLE membership (
    group_account INTEGER NOT NULL REFERENCES account(id) ON DELETE CASCADE, raw TEXT NOT NULL,
    member INTEGER, PRIMARY KEY (group_account, raw)
) STRICT, WITHOUT ROWID;
CREATE INDEX membership_member ON membership (member);

CREATE TABLE identity (
    id TEXT PRIMARY KEY, object TEXT NOT NULL, label TEXT NOT NULL, stage TEXT NOT NULL,
    attributes BLOB NOT NULL, hash BLOB NOT NULL, search TEXT NOT NULL, made TEXT NOT NULL, changed TEXT NOT NULL
) STRICT;
CREATE INDEX identity_label ON identity (label, id);

-- Links are closed, never deleted.
CREATE TABLE link (
    id INTEGER PRIMARY KEY, account INTEGER NOT NULL REFERENCES account(id), identity TEXT NOT NULL REFERENCES identity(id),
    made TEXT NOT NULL, origin TEXT NOT NULL, origin_name TEXT NOT NULL, principal TEXT NOT NULL,
    ended TEXT, ended_by TEXT, ended_principal TEXT
) STRICT;
CREATE UNIQUE INDEX link_open ON link (account) WHERE ended IS NULL;
CREATE INDEX link_identity ON link (identity);

CREATE TABLE rule_set (
    version INTEGER PRIMARY KEY, files TEXT NOT NULL, made TEXT NOT NULL, principal TEXT NOT NULL
) STRICT;

-- A preview or a run, its lines and its changes. The changes of runs are the queue.
CREATE TABLE change_set (
    id INTEGER PRIMARY KEY, kind TEXT NOT NULL, state TEXT NOT NULL, rule_version INTEGER NOT NULL,
    principal TEXT NOT NULL, preview INTEGER, started TEXT NOT NULL, ended TEXT, note TEXT
) STRICT;
CREATE TABLE decided (
    change_set INTEGER NOT NULL REFERENCES change_set(id) ON DELETE CASCADE, seq INTEGER NOT NULL,
    system TEXT NOT NULL, object TEXT NOT NULL, identity TEXT, account INTEGER, label TEXT NOT NULL,
    verdict TEXT NOT NULL, reason TEXT NOT NULL, PRIMARY KEY (change_set, seq)
) STRICT, WITHOUT ROWID;
CREATE TABLE change (
    id INTEGER PRIMARY KEY, change_set INTEGER NOT NULL REFERENCES change_set(id) ON DELETE CASCADE,
    system TEXT NOT NULL, object TEXT NOT NULL, identity TEXT NOT NULL, account INTEGER, label TEXT NOT NULL,
    kind TEXT NOT NULL, vals TEXT NOT NULL, reason TEXT NOT NULL, hold TEXT, fingerprint TEXT NOT NULL,
    rule_version INTEGER NOT NULL,
    state TEXT NOT NULL,               -- proposed held queued sending unknown done failed cancelled superseded
    attempts INTEGER NOT NULL DEFAULT 0, error TEXT, remedy TEXT, not_before TEXT,
    queued TEXT, sent TEXT, settled TEXT
) STRICT;
CREATE INDEX change_set_changes ON change (change_set, id);
CREATE INDEX change_queue ON change (state, id);
CREATE INDEX change_identity ON change (identity, id);

-- What targets made of our values.
CREATE TABLE normalised (
    account INTEGER NOT NULL REFERENCES account(id) ON DELETE CASCADE, attribute TEXT NOT NULL,
    sent BLOB NOT NULL, returned BLOB NOT NULL, made TEXT NOT NULL,
    -- The answer to the write showed it, or the same came of the same twice: it is no change of somebody else.
    is_certain INTEGER NOT NULL, PRIMARY KEY (account, attribute)
) STRICT, WITHOUT ROWID;

-- Names given out, normalised, never given again.
CREATE TABLE reservation (
    system TEXT NOT NULL, object TEXT NOT NULL, attribute TEXT NOT NULL, value TEXT NOT NULL,
    identity TEXT NOT NULL, made TEXT NOT NULL, PRIMARY KEY (system, object, attribute, value)
) STRICT, WITHOUT ROWID;

-- Questions that a person must answer.
CREATE TABLE decision (
    id INTEGER PRIMARY KEY, kind TEXT NOT NULL, system TEXT, identity TEXT, account INTEGER, question TEXT NOT NULL,
    made TEXT NOT NULL, answered TEXT, answer TEXT, principal TEXT
) STRICT;

-- What is to be told to somebody, whatever the channel.
CREATE TABLE notice (
    id INTEGER PRIMARY KEY, channel TEXT NOT NULL, recipient TEXT NOT NULL, subject TEXT NOT NULL, body TEXT NOT NULL,
    made TEXT NOT NULL, state TEXT NOT NULL DEFAULT 'waiting', attempts INTEGER NOT NULL DEFAULT 0, sent TEXT
) STRICT;

-- The append-only history. Each entry's hash covers the one before it. Personal values stand
-- beside it and only their hash is covered, so that they can be erased while the chain holds.
CREATE TABLE journal (
    id INTEGER PRIMARY KEY, at TEXT NOT NULL, principal TEXT NOT NULL, act TEXT NOT NULL, subject TEXT NOT NULL,
    detail TEXT NOT NULL, values_hash BLOB, hash BLOB NOT NULL
) STRICT;
CREATE TABLE journal_value (
    journal INTEGER PRIMARY KEY REFERENCES journal(id), vals TEXT NOT NULL
) STRICT;
CREATE TRIGGER journal_no_update BEFORE UPDATE ON journal BEGIN SELECT RAISE(ABORT, 'the journal is append-only'); END;
CREATE TRIGGER journal_no_delete BEFORE DELETE ON journal BEGIN SELECT RAISE(ABORT, 'the journal is append-only'); END;
