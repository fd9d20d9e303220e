-- What does not go on now: a line of a decision (kind is empty), or a change. It is as the last decision about it said.
CREATE TABLE hold (
    id INTEGER PRIMARY KEY,
    system TEXT NOT NULL,
    object TEXT NOT NULL,
    -- Empty for an account that belongs to nobody, or to somebody who is not kept yet.
    identity TEXT NOT NULL,
    -- 0 where there is none yet.
    account INTEGER NOT NULL,
    kind TEXT NOT NULL,
    -- It would close somebody's access.
    takes_away INTEGER NOT NULL,
    label TEXT NOT NULL,
    cause TEXT NOT NULL,
    reason TEXT NOT NULL,
    rule TEXT,
    -- When this cause began to hold it.
    since TEXT NOT NULL,
    UNIQUE (system, object, identity, account, kind)
) STRICT;
CREATE INDEX hold_by_identity ON hold (identity);
CREATE INDEX hold_by_account ON hold (account) WHERE account <> 0;
CREATE INDEX hold_by_cause ON hold (cause, label, id);
