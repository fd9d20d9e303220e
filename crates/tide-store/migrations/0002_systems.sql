-- Systems of every kind: what they say of themselves, what was set aside of feeds, what was pushed.

ALTER TABLE system ADD COLUMN profile TEXT NOT NULL DEFAULT '[]';   -- label and text
ALTER TABLE system ADD COLUMN own TEXT NOT NULL DEFAULT '[]';       -- the names of our own account there
-- What was writable was at work, and goes on.
UPDATE system SET armed = 1 WHERE writable <> '[]';

-- A token is for an operator, or for one system that calls us.
ALTER TABLE token ADD COLUMN label TEXT NOT NULL DEFAULT '';
ALTER TABLE token ADD COLUMN used TEXT;

ALTER TABLE reading ADD COLUMN quarantined INTEGER NOT NULL DEFAULT 0;
CREATE TABLE quarantine (
    reading INTEGER NOT NULL REFERENCES reading(id), line INTEGER NOT NULL, reason TEXT NOT NULL, raw TEXT NOT NULL, key TEXT
) STRICT;
CREATE INDEX quarantine_reading ON quarantine (reading, line);

-- Resources that were pushed to us over SCIM, as they are answered.
CREATE TABLE pushed (
    row INTEGER PRIMARY KEY, system TEXT NOT NULL, id TEXT NOT NULL, object TEXT NOT NULL, name_key TEXT NOT NULL,
    external_id TEXT, version INTEGER NOT NULL, body TEXT NOT NULL, made TEXT NOT NULL, changed TEXT NOT NULL,
    UNIQUE (system, id)
) STRICT;
CREATE UNIQUE INDEX pushed_user_name ON pushed (system, name_key) WHERE object = 'person';
CREATE INDEX pushed_name ON pushed (system, object, name_key);
CREATE INDEX pushed_external ON pushed (system, object, external_id);
CREATE TABLE pushed_member (
    system TEXT NOT NULL, member TEXT NOT NULL, team TEXT NOT NULL, PRIMARY KEY (system, member, team)
) STRICT, WITHOUT ROWID;
CREATE INDEX pushed_member_team ON pushed_member (system, team);

-- Events that were pushed to us, and the shape that a system's events have.
CREATE TABLE push_event (
    id TEXT PRIMARY KEY, system TEXT NOT NULL, kind TEXT NOT NULL, key TEXT NOT NULL, body TEXT NOT NULL,
    principal TEXT NOT NULL, made TEXT NOT NULL,
    -- What the caller calls it, its place among those of its record, and when it happened, where the caller says so.
    external_id TEXT, sequence INTEGER, occurred_at TEXT,
    -- It came after a later one of the same record: nothing was done.
    is_outdated INTEGER NOT NULL DEFAULT 0
) STRICT;
CREATE INDEX push_event_system ON push_event (system, made);
CREATE INDEX push_event_key ON push_event (system, key);
CREATE UNIQUE INDEX push_event_external ON push_event (system, external_id) WHERE external_id IS NOT NULL;
CREATE TABLE event_shape (system TEXT PRIMARY KEY, shape TEXT NOT NULL, made TEXT NOT NULL) STRICT;
