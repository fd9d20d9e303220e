-- The records of Eager Tide.
--
-- Instants (columns that end in _at, and `at`) are text in UTC with milliseconds, so that they sort
-- as they read. Columns that end in _json hold JSON; lists without that ending are JSON arrays and say so.
-- `object` is the type of a record, "person" or "group".

CREATE TABLE meta (
    name TEXT PRIMARY KEY,
    value TEXT NOT NULL
) STRICT;

-- ── Principals and access ────────────────────────────────────────────────────────────────────

-- Who acts: an operator, a system that calls us, the service itself.
CREATE TABLE principal (
    id TEXT PRIMARY KEY,
    kind TEXT NOT NULL,
    name TEXT NOT NULL,
    created_at TEXT NOT NULL,
    ended_at TEXT,
    -- The person that an operator is, and the groups of operators that they belong to (JSON array).
    identity TEXT,
    teams TEXT NOT NULL DEFAULT '[]',
    -- Which operator changed these last, or gave this one a token.
    set_by TEXT,
    set_at TEXT
) STRICT;
-- Names are unique by kind. An operator's name is never reused, because rules and the journal name
-- operators; a system that was removed may be added again.
CREATE UNIQUE INDEX principal_operator ON principal (name) WHERE kind = 'operator';
CREATE UNIQUE INDEX principal_system ON principal (name) WHERE kind = 'system' AND ended_at IS NULL;

-- A token belongs to an operator, or to one system that calls us. Only its hash is stored.
CREATE TABLE token (
    id TEXT PRIMARY KEY,
    principal TEXT NOT NULL REFERENCES principal(id),
    hash BLOB NOT NULL UNIQUE,
    label TEXT NOT NULL DEFAULT '',
    created_at TEXT NOT NULL,
    expires_at TEXT,
    ended_at TEXT,
    used_at TEXT
) STRICT;

-- A session ends with the token that it was started with.
CREATE TABLE session (
    id TEXT PRIMARY KEY,
    principal TEXT NOT NULL REFERENCES principal(id),
    token TEXT NOT NULL REFERENCES token(id),
    hash BLOB NOT NULL UNIQUE,
    created_at TEXT NOT NULL,
    expires_at TEXT NOT NULL,
    ended_at TEXT
) STRICT;

-- Secrets, each sealed with a key of its own, which is wrapped with the master key.
CREATE TABLE secret (
    owner TEXT NOT NULL,
    field TEXT NOT NULL,
    key_id TEXT NOT NULL,
    wrapped BLOB NOT NULL,
    sealed BLOB NOT NULL,
    created_at TEXT NOT NULL,
    PRIMARY KEY (owner, field)
) STRICT;

-- ── Systems and what was read of them ────────────────────────────────────────────────────────

CREATE TABLE system (
    name TEXT PRIMARY KEY,
    kind TEXT NOT NULL,
    settings TEXT NOT NULL,
    -- Types that may be written (JSON array). The default is none.
    writable TEXT NOT NULL DEFAULT '[]',
    armed INTEGER NOT NULL DEFAULT 0,
    paused INTEGER NOT NULL DEFAULT 0,
    schema TEXT NOT NULL DEFAULT '{}',
    check_report TEXT,
    checked_at TEXT,
    -- Capabilities, as labels and texts (JSON array).
    profile TEXT NOT NULL DEFAULT '[]',
    -- Names of our own account there (JSON array).
    own_names TEXT NOT NULL DEFAULT '[]',
    -- When the system is read and written automatically, as JSON. Empty: never.
    schedule TEXT NOT NULL DEFAULT '{}',
    created_at TEXT NOT NULL
) STRICT;

-- One enumeration of one type of one system. Absence follows from a complete one only.
CREATE TABLE full_read (
    id INTEGER PRIMARY KEY,
    system TEXT NOT NULL,
    object TEXT NOT NULL,
    state TEXT NOT NULL,
    started_at TEXT NOT NULL,
    ended_at TEXT,
    object_count INTEGER NOT NULL DEFAULT 0,
    quarantined INTEGER NOT NULL DEFAULT 0,
    error TEXT
) STRICT;
CREATE INDEX full_read_system ON full_read (system, object, id);
-- Checked before each decision: was a backup restored?
CREATE INDEX full_read_outdated ON full_read (id) WHERE state = 'outdated';

-- Rows of a feed that were rejected.
CREATE TABLE quarantine (
    full_read INTEGER NOT NULL REFERENCES full_read(id),
    line INTEGER NOT NULL,
    reason TEXT NOT NULL,
    raw TEXT NOT NULL,
    key TEXT
) STRICT;
CREATE INDEX quarantine_full_read ON quarantine (full_read, line);

-- The position up to which the changes of a system were received, and the last full read of it.
CREATE TABLE sync_cursor (
    system TEXT NOT NULL,
    object TEXT NOT NULL,
    mode TEXT NOT NULL,
    cursor TEXT,
    at TEXT NOT NULL,
    full_at TEXT NOT NULL,
    PRIMARY KEY (system, object)
) STRICT, WITHOUT ROWID;

CREATE TABLE account (
    id INTEGER PRIMARY KEY,
    system TEXT NOT NULL,
    object TEXT NOT NULL,
    -- The stable identifier in its system.
    key TEXT NOT NULL,
    name TEXT NOT NULL,
    purpose TEXT NOT NULL DEFAULT '',
    attributes BLOB NOT NULL,
    hash BLOB NOT NULL,
    fault TEXT,
    first_seen TEXT NOT NULL,
    seen_at TEXT NOT NULL,
    full_read INTEGER,
    -- When we last wrote to it.
    written_at TEXT,
    absent_since TEXT,
    -- The system itself reported the deletion; otherwise a complete read did not contain the account.
    absence_confirmed INTEGER NOT NULL DEFAULT 0,
    -- The system's own version of the stored state: an older state that arrives later is discarded.
    version TEXT,
    -- A change event arrived while we wrote, from a system that does not order its states.
    has_conflicting_event INTEGER NOT NULL DEFAULT 0,
    UNIQUE (system, key)
) STRICT;
CREATE INDEX account_object ON account (system, object);
-- The accounts of a system by name. Also asked before a former DN is removed from a group: who has it now?
CREATE INDEX account_name ON account (system, name COLLATE NOCASE);

-- Memberships that we changed since the group's attributes were last stored in full, so that one
-- membership costs O(1) in the size of its group.
CREATE TABLE membership_delta (
    account INTEGER NOT NULL REFERENCES account(id),
    attribute TEXT NOT NULL,
    -- The member's name as names are compared.
    folded TEXT NOT NULL,
    value BLOB NOT NULL,
    is_member INTEGER NOT NULL,
    at TEXT NOT NULL,
    PRIMARY KEY (account, attribute, folded)
) STRICT, WITHOUT ROWID;

-- The values of an account before a read found it changed: whoever changed it, it was not us.
CREATE TABLE drift_baseline (
    account INTEGER PRIMARY KEY REFERENCES account(id) ON DELETE CASCADE,
    before BLOB NOT NULL,
    at TEXT NOT NULL
) STRICT;

-- How a target normalizes our values.
CREATE TABLE value_normalization (
    account INTEGER NOT NULL REFERENCES account(id) ON DELETE CASCADE,
    attribute TEXT NOT NULL,
    sent_value BLOB NOT NULL,
    returned_value BLOB NOT NULL,
    created_at TEXT NOT NULL,
    -- The answer to the write contained it, or the same write gave it twice: it is no change by others.
    is_certain INTEGER NOT NULL,
    PRIMARY KEY (account, attribute)
) STRICT, WITHOUT ROWID;

-- Resources that clients provisioned to us over SCIM, as they are answered.
CREATE TABLE inbound_resource (
    row INTEGER PRIMARY KEY,
    system TEXT NOT NULL,
    id TEXT NOT NULL,
    object TEXT NOT NULL,
    name_key TEXT NOT NULL,
    external_id TEXT,
    version INTEGER NOT NULL,
    body TEXT NOT NULL,
    created_at TEXT NOT NULL,
    changed_at TEXT NOT NULL,
    UNIQUE (system, id)
) STRICT;
CREATE UNIQUE INDEX inbound_resource_user_name ON inbound_resource (system, name_key) WHERE object = 'person';
CREATE INDEX inbound_resource_name ON inbound_resource (system, object, name_key);
CREATE INDEX inbound_resource_external ON inbound_resource (system, object, external_id);
CREATE TABLE inbound_member (
    system TEXT NOT NULL,
    member TEXT NOT NULL,
    group_id TEXT NOT NULL,
    PRIMARY KEY (system, member, group_id)
) STRICT, WITHOUT ROWID;
CREATE INDEX inbound_member_group ON inbound_member (system, group_id);

-- Events that were sent to us.
CREATE TABLE inbound_event (
    id TEXT PRIMARY KEY,
    system TEXT NOT NULL,
    kind TEXT NOT NULL,
    key TEXT NOT NULL,
    body TEXT NOT NULL,
    principal TEXT NOT NULL,
    created_at TEXT NOT NULL,
    -- The caller's id of it, its position among the events of its record, and when it happened, if
    -- the caller sends these.
    external_id TEXT,
    sequence INTEGER,
    occurred_at TEXT,
    -- It arrived after a later event of the same record: nothing was done.
    is_outdated INTEGER NOT NULL DEFAULT 0
) STRICT;
CREATE INDEX inbound_event_system ON inbound_event (system, created_at);
CREATE INDEX inbound_event_key ON inbound_event (system, key);
CREATE UNIQUE INDEX inbound_event_external ON inbound_event (system, external_id) WHERE external_id IS NOT NULL;
-- The structure of a system's events.
CREATE TABLE event_shape (
    system TEXT PRIMARY KEY,
    shape TEXT NOT NULL,
    created_at TEXT NOT NULL
) STRICT;

-- ── Identities ───────────────────────────────────────────────────────────────────────────────

CREATE TABLE identity (
    id TEXT PRIMARY KEY,
    object TEXT NOT NULL,
    label TEXT NOT NULL,
    stage TEXT NOT NULL,
    stage_since TEXT,
    attributes BLOB NOT NULL,
    hash BLOB NOT NULL,
    search TEXT NOT NULL,
    -- Roles that nothing grants any more, each with the moment until which it is kept (JSON object).
    kept_roles TEXT NOT NULL DEFAULT '{}',
    created_at TEXT NOT NULL,
    changed_at TEXT NOT NULL
) STRICT;
CREATE INDEX identity_label ON identity (label, id);

-- Links are ended, never deleted.
CREATE TABLE link (
    id INTEGER PRIMARY KEY,
    account INTEGER NOT NULL REFERENCES account(id),
    identity TEXT NOT NULL REFERENCES identity(id),
    created_at TEXT NOT NULL,
    origin TEXT NOT NULL,
    origin_name TEXT NOT NULL,
    principal TEXT NOT NULL,
    ended_at TEXT,
    end_reason TEXT,
    ended_by TEXT
) STRICT;
CREATE UNIQUE INDEX link_open ON link (account) WHERE ended_at IS NULL;
CREATE INDEX link_identity ON link (identity);

-- What operators decided about matches. An answer counts until it is taken back or replaced.
CREATE TABLE match_answer (
    id INTEGER PRIMARY KEY,
    system TEXT NOT NULL,
    object TEXT NOT NULL,
    identity TEXT,
    account INTEGER REFERENCES account(id),
    answer TEXT NOT NULL,
    label TEXT NOT NULL,
    principal TEXT NOT NULL,
    created_at TEXT NOT NULL,
    ended_at TEXT,
    ended_by TEXT
) STRICT;
CREATE UNIQUE INDEX match_answer_open ON match_answer (system, coalesce(identity, ''), coalesce(account, 0))
    WHERE ended_at IS NULL;
CREATE INDEX match_answer_account ON match_answer (account) WHERE ended_at IS NULL;
CREATE INDEX match_answer_identity ON match_answer (identity) WHERE ended_at IS NULL;

-- Names handed out, normalized, never handed out again.
CREATE TABLE reservation (
    system TEXT NOT NULL,
    object TEXT NOT NULL,
    attribute TEXT NOT NULL,
    value TEXT NOT NULL,
    identity TEXT NOT NULL,
    created_at TEXT NOT NULL,
    PRIMARY KEY (system, object, attribute, value)
) STRICT, WITHOUT ROWID;
CREATE INDEX reservation_identity ON reservation (identity);

-- Departures that operators scheduled or started.
CREATE TABLE departure (
    identity TEXT PRIMARY KEY REFERENCES identity(id),
    at TEXT NOT NULL,
    principal TEXT NOT NULL,
    comment TEXT NOT NULL,
    created_at TEXT NOT NULL
) STRICT;

-- Who left, and from when on that had to be carried out: the moment that was due, or the one in
-- which a source showed it.
CREATE TABLE leaver (
    id INTEGER PRIMARY KEY,
    identity TEXT NOT NULL REFERENCES identity(id),
    label TEXT NOT NULL,
    started_at TEXT NOT NULL,
    returned_at TEXT
) STRICT;
CREATE INDEX leaver_identity ON leaver (identity, id);
CREATE INDEX leaver_started ON leaver (started_at, id);

-- When an inactive person was reactivated.
CREATE TABLE reactivation (
    identity TEXT PRIMARY KEY REFERENCES identity(id),
    at TEXT NOT NULL,
    principal TEXT NOT NULL
) STRICT;

-- Roles granted by hand. Expired grants are kept.
CREATE TABLE role_grant (
    id INTEGER PRIMARY KEY,
    identity TEXT NOT NULL REFERENCES identity(id),
    role TEXT NOT NULL,
    from_at TEXT,
    until_at TEXT,
    principal TEXT NOT NULL,
    comment TEXT NOT NULL,
    created_at TEXT NOT NULL
) STRICT;
CREATE INDEX role_grant_identity ON role_grant (identity);

-- Memberships that rules granted: only these are ours to revoke.
CREATE TABLE rule_membership (
    identity TEXT NOT NULL REFERENCES identity(id),
    -- The group.
    account INTEGER NOT NULL REFERENCES account(id),
    created_at TEXT NOT NULL,
    -- The member's name as it was written into the group, and as names are compared.
    member TEXT NOT NULL,
    folded TEXT NOT NULL,
    PRIMARY KEY (identity, account)
) STRICT, WITHOUT ROWID;
CREATE INDEX rule_membership_folded ON rule_membership (folded);

-- Values that we gave to attributes which others write too: only these are ours to remove.
CREATE TABLE managed_value (
    account INTEGER NOT NULL REFERENCES account(id) ON DELETE CASCADE,
    attribute TEXT NOT NULL,
    values_blob BLOB NOT NULL,
    PRIMARY KEY (account, attribute)
) STRICT, WITHOUT ROWID;

-- ── Rules ────────────────────────────────────────────────────────────────────────────────────

CREATE TABLE rule_set (
    version INTEGER PRIMARY KEY,
    files TEXT NOT NULL,
    created_at TEXT NOT NULL,
    principal TEXT NOT NULL,
    -- The name of the draft it was published from, or the version that was rolled back to.
    note TEXT NOT NULL DEFAULT ''
) STRICT;

-- Drafts of the rule set. An edition is one saved state: a save names the edition it is based on.
CREATE TABLE draft (
    id INTEGER PRIMARY KEY,
    name TEXT NOT NULL,
    base INTEGER NOT NULL,
    files TEXT NOT NULL,
    edition INTEGER NOT NULL DEFAULT 1,
    principal TEXT NOT NULL,
    created_at TEXT NOT NULL,
    changed_at TEXT NOT NULL,
    changed_by TEXT NOT NULL,
    ended_at TEXT,
    published INTEGER
) STRICT;

-- ── Change sets and the queue ────────────────────────────────────────────────────────────────

-- A preview or a run, its outcomes and its changes. The changes of runs are the queue.
CREATE TABLE change_set (
    id INTEGER PRIMARY KEY,
    kind TEXT NOT NULL,
    state TEXT NOT NULL,
    rule_version INTEGER NOT NULL,
    principal TEXT NOT NULL,
    preview INTEGER,
    started_at TEXT NOT NULL,
    ended_at TEXT,
    note TEXT,
    -- The number of lines by verdict (JSON object).
    verdicts TEXT NOT NULL DEFAULT '{}',
    -- The number of changes by state (JSON object), once it has ended.
    states TEXT,
    -- It is about everybody, and not only about records that changed.
    is_full INTEGER NOT NULL DEFAULT 1,
    -- The day that a preview simulates, if it is not the day on which it was made.
    as_of TEXT,
    -- Systems that could not be read completely (JSON array).
    unread TEXT NOT NULL DEFAULT '[]'
) STRICT;
CREATE TABLE outcome_line (
    change_set INTEGER NOT NULL REFERENCES change_set(id) ON DELETE CASCADE,
    seq INTEGER NOT NULL,
    system TEXT NOT NULL,
    object TEXT NOT NULL,
    identity TEXT,
    account INTEGER,
    label TEXT NOT NULL,
    verdict TEXT NOT NULL,
    reason TEXT NOT NULL,
    PRIMARY KEY (change_set, seq)
) STRICT, WITHOUT ROWID;
CREATE TABLE change (
    id INTEGER PRIMARY KEY,
    change_set INTEGER NOT NULL REFERENCES change_set(id) ON DELETE CASCADE,
    system TEXT NOT NULL,
    object TEXT NOT NULL,
    identity TEXT NOT NULL,
    account INTEGER,
    label TEXT NOT NULL,
    kind TEXT NOT NULL,
    values_json TEXT NOT NULL,
    reason TEXT NOT NULL,
    hold TEXT,
    fingerprint TEXT NOT NULL,
    rule_version INTEGER NOT NULL,
    state TEXT NOT NULL,
    attempts INTEGER NOT NULL DEFAULT 0,
    error TEXT,
    remedy TEXT,
    -- A failure that may pass: the change is retried automatically.
    is_transient INTEGER NOT NULL DEFAULT 0,
    not_before TEXT,
    -- Guards do not count a change that an operator released.
    is_released INTEGER NOT NULL DEFAULT 0,
    -- Where to ask for the result, if the system accepted the change into a queue of its own.
    operation_url TEXT,
    -- Which step of a departure it is. 0: none.
    step INTEGER NOT NULL DEFAULT 0,
    queued_at TEXT,
    sent_at TEXT,
    settled_at TEXT
) STRICT;
CREATE INDEX change_set_changes ON change (change_set, id);
-- The queue, and the number of changes of a change set by state.
CREATE INDEX change_queue ON change (state, change_set, id);
CREATE INDEX change_identity ON change (identity, id);
CREATE INDEX change_orphan ON change (account, id) WHERE identity = '';
CREATE INDEX change_fingerprint ON change (fingerprint, id);
CREATE INDEX change_settled ON change (system, kind, settled_at) WHERE state = 'done';
CREATE INDEX change_accepted ON change (id) WHERE state = 'accepted';
-- Writes to accounts that cannot be seen in the accounts.
CREATE INDEX change_acts ON change (account, kind, settled_at) WHERE state = 'done' AND kind IN ('password', 'delete');
CREATE TRIGGER change_state_changed AFTER UPDATE OF state ON change WHEN OLD.state <> NEW.state BEGIN
    UPDATE change_set SET states = NULL WHERE id = NEW.change_set AND states IS NOT NULL;
END;
-- What guards count before it is done.
CREATE INDEX change_in_flight ON change (system, kind)
    WHERE state IN ('queued', 'sending', 'unknown', 'accepted') AND kind IN ('disable', 'delete', 'revoke', 'move', 'password');

-- What is on hold now, as of the last decision about it: an outcome (kind is empty) or a change.
CREATE TABLE hold (
    id INTEGER PRIMARY KEY,
    system TEXT NOT NULL,
    object TEXT NOT NULL,
    -- Empty for an orphaned account, and for an identity that is not stored yet.
    identity TEXT NOT NULL,
    -- 0 where there is none yet.
    account INTEGER NOT NULL,
    kind TEXT NOT NULL,
    -- It would close somebody's access.
    removes_access INTEGER NOT NULL,
    label TEXT NOT NULL,
    cause TEXT NOT NULL,
    -- The code and the arguments of the reason, as JSON.
    reason TEXT NOT NULL,
    -- Its sentence, for searches by people.
    search_text TEXT NOT NULL,
    rule TEXT,
    -- When this cause began to hold it.
    since TEXT NOT NULL,
    UNIQUE (system, object, identity, account, kind)
) STRICT;
CREATE INDEX hold_by_identity ON hold (identity);
CREATE INDEX hold_by_account ON hold (account) WHERE account <> 0;
CREATE INDEX hold_by_cause ON hold (cause, label, id);

-- The last decision about each record, as the lists of a system show it. Written by each decision; it
-- can be decided again.
CREATE TABLE outcome (
    id INTEGER PRIMARY KEY,
    system TEXT NOT NULL,
    object TEXT NOT NULL,
    -- `scope` or `matches`, and the status in it.
    list TEXT NOT NULL,
    status TEXT NOT NULL,
    -- The code of the reason; and its rule as FILE:LINE:COLUMN, or what made a link.
    code TEXT NOT NULL,
    group_key TEXT NOT NULL,
    -- Empty for an account without an identity.
    identity TEXT NOT NULL,
    -- 0 where there is none yet.
    account INTEGER NOT NULL,
    account_name TEXT NOT NULL,
    label TEXT NOT NULL,
    candidates INTEGER NOT NULL,
    -- The code and the arguments of the reason, as JSON.
    reason TEXT NOT NULL,
    digest INTEGER NOT NULL
) STRICT;
CREATE INDEX outcome_identity ON outcome (identity) WHERE identity <> '';
CREATE INDEX outcome_account ON outcome (account) WHERE account <> 0;
CREATE INDEX outcome_list ON outcome (system, object, list, status, label, account_name, id);
-- For the sentences of counts.
CREATE INDEX outcome_reason ON outcome (system, object, list, status, code, group_key);
-- How many outcomes there are of each status and reason.
CREATE TABLE outcome_count (
    system TEXT NOT NULL,
    object TEXT NOT NULL,
    list TEXT NOT NULL,
    status TEXT NOT NULL,
    code TEXT NOT NULL,
    group_key TEXT NOT NULL,
    count INTEGER NOT NULL,
    PRIMARY KEY (system, object, list, status, code, group_key)
) STRICT, WITHOUT ROWID;

-- What people hold or would take by the last decision about them: roles, conflicts between roles, seats
-- of licenses. Written with the outcomes.
CREATE TABLE holding (
    id INTEGER PRIMARY KEY,
    -- `role`, `role_conflict`, `seat_taken` or `seat_freed`.
    kind TEXT NOT NULL,
    -- The role or the license.
    name TEXT NOT NULL,
    -- Empty for an account without an identity.
    identity TEXT NOT NULL,
    -- 0 where it is about the identity.
    account INTEGER NOT NULL,
    label TEXT NOT NULL,
    -- Sorts the list of a name.
    position TEXT NOT NULL,
    -- The rest, as JSON.
    detail TEXT NOT NULL,
    digest INTEGER NOT NULL
) STRICT;
CREATE INDEX holding_identity ON holding (identity) WHERE identity <> '';
CREATE INDEX holding_account ON holding (account) WHERE account <> 0;
CREATE INDEX holding_list ON holding (kind, name, position, id);
CREATE TABLE holding_count (
    kind TEXT NOT NULL,
    name TEXT NOT NULL,
    count INTEGER NOT NULL,
    PRIMARY KEY (kind, name)
) STRICT, WITHOUT ROWID;
CREATE TRIGGER holding_added AFTER INSERT ON holding BEGIN
    INSERT INTO holding_count (kind, name, count) VALUES (NEW.kind, NEW.name, 1)
    ON CONFLICT (kind, name) DO UPDATE SET count = count + 1;
END;
CREATE TRIGGER holding_deleted AFTER DELETE ON holding BEGIN
    UPDATE holding_count SET count = count - 1 WHERE kind = OLD.kind AND name = OLD.name;
END;

-- What an operator decided about changes held by a guard: sent after all (release), or not sent
-- while they stay the same (discard). It ends when the change is done, when nothing wants the
-- change any more, and when it expires.
CREATE TABLE change_override (
    fingerprint TEXT PRIMARY KEY,
    answer TEXT NOT NULL,
    held_by TEXT NOT NULL,
    decision TEXT NOT NULL,
    system TEXT NOT NULL,
    kind TEXT NOT NULL,
    identity TEXT NOT NULL,
    account INTEGER,
    label TEXT NOT NULL,
    principal TEXT NOT NULL,
    created_at TEXT NOT NULL,
    expires_at TEXT NOT NULL
) STRICT, WITHOUT ROWID;

-- Changes that await approval, or were approved and are not sent yet.
CREATE TABLE approval (
    fingerprint TEXT PRIMARY KEY,
    rule TEXT NOT NULL,
    system TEXT NOT NULL,
    kind TEXT NOT NULL,
    identity TEXT NOT NULL,
    label TEXT NOT NULL,
    requested_at TEXT NOT NULL,
    requested_by TEXT NOT NULL,
    expires_at TEXT NOT NULL,
    remind_at TEXT,
    -- The operators who caused the change, each with what they did and when (JSON array): they may
    -- not approve it.
    causes TEXT NOT NULL DEFAULT '[]'
) STRICT, WITHOUT ROWID;
CREATE TABLE approval_answer (
    fingerprint TEXT NOT NULL REFERENCES approval(fingerprint) ON DELETE CASCADE,
    level INTEGER NOT NULL,
    is_approved INTEGER NOT NULL,
    principal TEXT NOT NULL,
    comment TEXT NOT NULL,
    created_at TEXT NOT NULL,
    PRIMARY KEY (fingerprint, level)
) STRICT, WITHOUT ROWID;

-- All writes to all systems are stopped until an operator lifts this. At most one row.
CREATE TABLE write_stop (
    id INTEGER PRIMARY KEY CHECK (id = 1),
    reason TEXT NOT NULL,
    principal TEXT NOT NULL,
    created_at TEXT NOT NULL
) STRICT;

-- ── Passwords ────────────────────────────────────────────────────────────────────────────────

-- Initial passwords that may be shown once or delivered. The password itself is a sealed secret.
CREATE TABLE first_password (
    change INTEGER PRIMARY KEY REFERENCES change(id),
    account INTEGER NOT NULL REFERENCES account(id),
    identity TEXT NOT NULL,
    system TEXT NOT NULL,
    label TEXT NOT NULL,
    created_at TEXT NOT NULL,
    shown_at TEXT,
    shown_to TEXT,
    -- Delivery to a webhook.
    attempts INTEGER NOT NULL DEFAULT 0,
    tried_at TEXT,
    error TEXT
) STRICT;

-- Marks the password hash that was copied to an account from another directory.
CREATE TABLE password_hash_mark (
    account INTEGER PRIMARY KEY REFERENCES account(id),
    mark TEXT NOT NULL
) STRICT;

-- A password that was set in one system and is synchronized to the others. The password itself is a
-- sealed secret until all have it.
CREATE TABLE password_set (
    id INTEGER PRIMARY KEY,
    identity TEXT REFERENCES identity(id),
    account INTEGER REFERENCES account(id),
    origin TEXT NOT NULL,
    seal TEXT NOT NULL,
    must_change INTEGER NOT NULL,
    principal TEXT NOT NULL,
    created_at TEXT NOT NULL,
    ended_at TEXT,
    outcome TEXT
) STRICT;
CREATE INDEX password_set_identity ON password_set (identity) WHERE ended_at IS NULL;
CREATE INDEX password_set_account ON password_set (account) WHERE ended_at IS NULL;

-- ── Notifications, alerts, journal ───────────────────────────────────────────────────────────

-- What rules announced to whom, once for each key, and its delivery.
CREATE TABLE notification (
    id INTEGER PRIMARY KEY,
    key TEXT NOT NULL UNIQUE,
    rule TEXT NOT NULL,
    event TEXT NOT NULL,
    identity TEXT NOT NULL,
    label TEXT NOT NULL,
    about TEXT,
    recipients TEXT NOT NULL,
    text TEXT NOT NULL,
    webhook TEXT,
    created_at TEXT NOT NULL,
    sent_at TEXT,
    attempts INTEGER NOT NULL DEFAULT 0,
    tried_at TEXT,
    error TEXT,
    answer TEXT
) STRICT;
CREATE INDEX notification_identity ON notification (identity);
CREATE INDEX notification_pending ON notification (id) WHERE sent_at IS NULL AND webhook IS NOT NULL;

-- What operators should notice, until they acknowledge it.
CREATE TABLE alert (
    id INTEGER PRIMARY KEY,
    channel TEXT NOT NULL,
    recipient TEXT NOT NULL,
    subject TEXT NOT NULL,
    body TEXT NOT NULL,
    created_at TEXT NOT NULL,
    state TEXT NOT NULL DEFAULT 'waiting',
    sent_at TEXT
) STRICT;

-- The append-only history. The hash of each entry covers the entry before it. Personal values are
-- stored beside it and only their hash is covered, so that they can be erased while the chain
-- still verifies.
CREATE TABLE journal (
    id INTEGER PRIMARY KEY,
    at TEXT NOT NULL,
    principal TEXT NOT NULL,
    act TEXT NOT NULL,
    subject TEXT NOT NULL,
    detail TEXT NOT NULL,
    values_hash BLOB,
    hash BLOB NOT NULL
) STRICT;
CREATE TABLE journal_value (
    journal INTEGER PRIMARY KEY REFERENCES journal(id),
    values_json TEXT NOT NULL
) STRICT;
-- What operators did to identities by hand: shows who caused a change.
CREATE INDEX journal_by_hand ON journal (subject, at)
    WHERE act GLOB 'role.*' OR act GLOB 'departure.*' OR act GLOB 'match.*' OR act IN ('identity.split', 'password.set');
CREATE TRIGGER journal_no_update BEFORE UPDATE ON journal BEGIN SELECT RAISE(ABORT, 'the journal is append-only'); END;
CREATE TRIGGER journal_no_delete BEFORE DELETE ON journal BEGIN SELECT RAISE(ABORT, 'the journal is append-only'); END;

-- ── Kept counts ──────────────────────────────────────────────────────────────────────────────

-- The number of `account`s that are there and of those that are `linked`, by system; of `identity` by
-- stage; and how often a system or a schema changed (`schema_edition`).
CREATE TABLE record_count (
    kind TEXT NOT NULL,
    key TEXT NOT NULL,
    count INTEGER NOT NULL,
    PRIMARY KEY (kind, key)
) STRICT, WITHOUT ROWID;
CREATE TRIGGER count_account_added AFTER INSERT ON account WHEN NEW.absent_since IS NULL BEGIN
    INSERT INTO record_count (kind, key, count) VALUES ('account', NEW.system, 1)
    ON CONFLICT (kind, key) DO UPDATE SET count = count + 1;
END;
CREATE TRIGGER count_account_changed AFTER UPDATE OF absent_since ON account
WHEN (OLD.absent_since IS NULL) <> (NEW.absent_since IS NULL) BEGIN
    UPDATE record_count SET count = count + iif(NEW.absent_since IS NULL, 1, -1)
    WHERE key = NEW.system AND (kind = 'account' OR kind = 'linked'
      AND EXISTS (SELECT 1 FROM link l WHERE l.account = NEW.id AND l.ended_at IS NULL));
END;
CREATE TRIGGER count_account_deleted AFTER DELETE ON account WHEN OLD.absent_since IS NULL BEGIN
    UPDATE record_count SET count = count - 1 WHERE kind = 'account' AND key = OLD.system;
END;
CREATE TRIGGER count_link_added AFTER INSERT ON link WHEN NEW.ended_at IS NULL BEGIN
    INSERT INTO record_count (kind, key, count)
    SELECT 'linked', a.system, 1 FROM account a WHERE a.id = NEW.account AND a.absent_since IS NULL
    ON CONFLICT (kind, key) DO UPDATE SET count = count + 1;
END;
CREATE TRIGGER count_link_ended AFTER UPDATE OF ended_at ON link
WHEN OLD.ended_at IS NULL AND NEW.ended_at IS NOT NULL BEGIN
    UPDATE record_count SET count = count - 1 WHERE kind = 'linked'
      AND key = (SELECT a.system FROM account a WHERE a.id = NEW.account AND a.absent_since IS NULL);
END;
CREATE TRIGGER count_link_deleted AFTER DELETE ON link WHEN OLD.ended_at IS NULL BEGIN
    UPDATE record_count SET count = count - 1 WHERE kind = 'linked'
      AND key = (SELECT a.system FROM account a WHERE a.id = OLD.account AND a.absent_since IS NULL);
END;
CREATE TRIGGER count_identity_added AFTER INSERT ON identity BEGIN
    INSERT INTO record_count (kind, key, count) VALUES ('identity', NEW.stage, 1)
    ON CONFLICT (kind, key) DO UPDATE SET count = count + 1;
END;
CREATE TRIGGER count_identity_changed AFTER UPDATE OF stage ON identity WHEN OLD.stage <> NEW.stage BEGIN
    INSERT INTO record_count (kind, key, count) VALUES ('identity', NEW.stage, 1)
    ON CONFLICT (kind, key) DO UPDATE SET count = count + 1;
    UPDATE record_count SET count = count - 1 WHERE kind = 'identity' AND key = OLD.stage;
END;
CREATE TRIGGER count_identity_deleted AFTER DELETE ON identity BEGIN
    UPDATE record_count SET count = count - 1 WHERE kind = 'identity' AND key = OLD.stage;
END;

CREATE TRIGGER count_system_added AFTER INSERT ON system BEGIN
    INSERT INTO record_count (kind, key, count) VALUES ('schema_edition', '', 1)
    ON CONFLICT (kind, key) DO UPDATE SET count = count + 1;
END;
CREATE TRIGGER count_system_changed AFTER UPDATE OF name, schema ON system
WHEN OLD.name <> NEW.name OR OLD.schema <> NEW.schema BEGIN
    UPDATE record_count SET count = count + 1 WHERE kind = 'schema_edition';
END;
CREATE TRIGGER count_system_deleted AFTER DELETE ON system BEGIN
    UPDATE record_count SET count = count + 1 WHERE kind = 'schema_edition';
END;

-- ── Dirty records ────────────────────────────────────────────────────────────────────────────

-- What changed since the last decision about it: one row for each changed record, or a row without
-- record, which stands for everybody. Triggers fill it, so that no write can forget to. Rows are only
-- added, and read in their order; the incremental decision deletes them all but the last, so that no
-- number is used twice.
CREATE TABLE dirty_record (
    seq INTEGER PRIMARY KEY,
    account INTEGER,
    identity TEXT,
    -- A membership that we wrote: the group itself is not read again for it.
    group_account INTEGER,
    member TEXT,
    is_member INTEGER
) STRICT;

CREATE TRIGGER account_added AFTER INSERT ON account BEGIN
    INSERT INTO dirty_record (account) VALUES (NEW.id);
END;
CREATE TRIGGER account_changed AFTER UPDATE OF name, hash, fault, absent_since, absence_confirmed, object ON account
WHEN OLD.hash IS NOT NEW.hash OR OLD.name IS NOT NEW.name OR OLD.fault IS NOT NEW.fault
  OR OLD.absent_since IS NOT NEW.absent_since OR OLD.absence_confirmed IS NOT NEW.absence_confirmed
  OR OLD.object IS NOT NEW.object
BEGIN
    INSERT INTO dirty_record (account) VALUES (NEW.id);
END;
CREATE TRIGGER account_deleted AFTER DELETE ON account BEGIN
    INSERT INTO dirty_record (account) VALUES (NULL);
END;

CREATE TRIGGER identity_added AFTER INSERT ON identity BEGIN
    INSERT INTO dirty_record (identity) VALUES (NEW.id);
END;
CREATE TRIGGER identity_changed AFTER UPDATE ON identity
WHEN OLD.hash IS NOT NEW.hash OR OLD.stage IS NOT NEW.stage
BEGIN
    INSERT INTO dirty_record (identity) VALUES (NEW.id);
END;

CREATE TRIGGER link_added AFTER INSERT ON link BEGIN
    INSERT INTO dirty_record (account, identity) VALUES (NEW.account, NEW.identity);
END;
CREATE TRIGGER link_ended AFTER UPDATE OF ended_at ON link BEGIN
    INSERT INTO dirty_record (account, identity) VALUES (NEW.account, NEW.identity);
END;

CREATE TRIGGER match_answer_added AFTER INSERT ON match_answer BEGIN
    INSERT INTO dirty_record (account) SELECT NEW.account WHERE NEW.account IS NOT NULL;
    INSERT INTO dirty_record (identity) SELECT NEW.identity WHERE NEW.identity IS NOT NULL;
END;
CREATE TRIGGER match_answer_ended AFTER UPDATE OF ended_at ON match_answer BEGIN
    INSERT INTO dirty_record (account) SELECT NEW.account WHERE NEW.account IS NOT NULL;
    INSERT INTO dirty_record (identity) SELECT NEW.identity WHERE NEW.identity IS NOT NULL;
END;

CREATE TRIGGER value_normalization_added AFTER INSERT ON value_normalization BEGIN
    INSERT INTO dirty_record (account) VALUES (NEW.account);
END;
CREATE TRIGGER value_normalization_changed AFTER UPDATE ON value_normalization BEGIN
    INSERT INTO dirty_record (account) VALUES (NEW.account);
END;
CREATE TRIGGER value_normalization_deleted AFTER DELETE ON value_normalization BEGIN
    INSERT INTO dirty_record (account) VALUES (OLD.account);
END;
CREATE TRIGGER managed_value_added AFTER INSERT ON managed_value BEGIN
    INSERT INTO dirty_record (account) VALUES (NEW.account);
END;
CREATE TRIGGER managed_value_changed AFTER UPDATE ON managed_value BEGIN
    INSERT INTO dirty_record (account) VALUES (NEW.account);
END;
CREATE TRIGGER managed_value_deleted AFTER DELETE ON managed_value BEGIN
    INSERT INTO dirty_record (account) VALUES (OLD.account);
END;

CREATE TRIGGER reservation_added AFTER INSERT ON reservation BEGIN
    INSERT INTO dirty_record (identity) VALUES (NEW.identity);
END;
CREATE TRIGGER departure_added AFTER INSERT ON departure BEGIN
    INSERT INTO dirty_record (identity) VALUES (NEW.identity);
END;
CREATE TRIGGER departure_changed AFTER UPDATE ON departure BEGIN
    INSERT INTO dirty_record (identity) VALUES (NEW.identity);
END;
CREATE TRIGGER departure_deleted AFTER DELETE ON departure BEGIN
    INSERT INTO dirty_record (identity) VALUES (OLD.identity);
END;
CREATE TRIGGER role_grant_added AFTER INSERT ON role_grant BEGIN
    INSERT INTO dirty_record (identity) VALUES (NEW.identity);
END;
CREATE TRIGGER role_grant_changed AFTER UPDATE ON role_grant BEGIN
    INSERT INTO dirty_record (identity) VALUES (NEW.identity);
END;
CREATE TRIGGER rule_membership_added AFTER INSERT ON rule_membership BEGIN
    INSERT INTO dirty_record (identity) VALUES (NEW.identity);
END;
CREATE TRIGGER rule_membership_deleted AFTER DELETE ON rule_membership BEGIN
    INSERT INTO dirty_record (identity) VALUES (OLD.identity);
END;
CREATE TRIGGER reactivation_added AFTER INSERT ON reactivation BEGIN
    INSERT INTO dirty_record (identity) VALUES (NEW.identity);
END;
CREATE TRIGGER reactivation_changed AFTER UPDATE ON reactivation BEGIN
    INSERT INTO dirty_record (identity) VALUES (NEW.identity);
END;
CREATE TRIGGER password_set_added AFTER INSERT ON password_set BEGIN
    INSERT INTO dirty_record (account, identity) VALUES (NEW.account, NEW.identity);
END;

-- These concern everybody.
CREATE TRIGGER system_added AFTER INSERT ON system BEGIN
    INSERT INTO dirty_record (account) VALUES (NULL);
END;
CREATE TRIGGER system_changed AFTER UPDATE OF settings, writable, armed, paused, schema, own_names, schedule ON system
WHEN OLD.settings IS NOT NEW.settings OR OLD.writable IS NOT NEW.writable OR OLD.armed IS NOT NEW.armed
  OR OLD.paused IS NOT NEW.paused OR OLD.schema IS NOT NEW.schema OR OLD.own_names IS NOT NEW.own_names
  OR OLD.schedule IS NOT NEW.schedule
BEGIN
    INSERT INTO dirty_record (account) VALUES (NULL);
END;
CREATE TRIGGER system_deleted AFTER DELETE ON system BEGIN
    INSERT INTO dirty_record (account) VALUES (NULL);
END;
CREATE TRIGGER rule_set_published AFTER INSERT ON rule_set BEGIN
    INSERT INTO dirty_record (account) VALUES (NULL);
END;
-- A type that was never read completely before.
CREATE TRIGGER full_read_first AFTER UPDATE OF state ON full_read
WHEN NEW.state = 'complete' AND NOT EXISTS
    (SELECT 1 FROM full_read r
     WHERE r.system = NEW.system AND r.object = NEW.object AND r.state = 'complete' AND r.id <> NEW.id)
BEGIN
    INSERT INTO dirty_record (account) VALUES (NULL);
END;
