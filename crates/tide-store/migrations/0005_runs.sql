-- First passwords that are handed to a call-out: how that went so far.
ALTER TABLE first_password ADD COLUMN attempts INTEGER NOT NULL DEFAULT 0;
ALTER TABLE first_password ADD COLUMN tried TEXT;
ALTER TABLE first_password ADD COLUMN error TEXT;

-- When a system is read and written by itself, as JSON; empty: never.
ALTER TABLE system ADD COLUMN schedule TEXT NOT NULL DEFAULT '{}';

-- How far a system was followed: the place in its own history that was told last, and the last full read of it.
CREATE TABLE place (
    system TEXT NOT NULL, object TEXT NOT NULL, way TEXT NOT NULL, mark TEXT, at TEXT NOT NULL, full_at TEXT NOT NULL,
    PRIMARY KEY (system, object)
) STRICT, WITHOUT ROWID;

-- A run that follows what happened tells of those it is about, and not of everybody.
ALTER TABLE change_set ADD COLUMN whole INTEGER NOT NULL DEFAULT 1;
-- A change that failed by something that may pass is tried again by itself.
ALTER TABLE change ADD COLUMN passing INTEGER NOT NULL DEFAULT 0;
CREATE INDEX change_fingerprint ON change (fingerprint, id);
CREATE INDEX change_settled ON change (system, kind, settled) WHERE state = 'done';

-- What an operator said about changes that were held: sent after all (release), or dropped while they stay the same (discard). It ends
-- with the change: when that is done, when nothing wants it any more, and when it expires.
CREATE TABLE change_override (
    fingerprint TEXT PRIMARY KEY, said TEXT NOT NULL, held_by TEXT NOT NULL, decision TEXT NOT NULL, system TEXT NOT NULL,
    kind TEXT NOT NULL, identity TEXT NOT NULL, account INTEGER, label TEXT NOT NULL, principal TEXT NOT NULL, made TEXT NOT NULL,
    expires TEXT NOT NULL
) STRICT, WITHOUT ROWID;
-- A change that was sent because an operator released it is not counted by guards.
ALTER TABLE change ADD COLUMN is_released INTEGER NOT NULL DEFAULT 0;
