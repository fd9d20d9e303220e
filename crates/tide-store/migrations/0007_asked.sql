-- Operators may be people whom we know, and belong to groups of operators.
ALTER TABLE principal ADD COLUMN identity TEXT;
ALTER TABLE principal ADD COLUMN teams TEXT NOT NULL DEFAULT '[]';
-- Which operator said so last, or gave this one a token, and when.
ALTER TABLE principal ADD COLUMN set_by TEXT;
ALTER TABLE principal ADD COLUMN set_at TEXT;

-- Changes that need a yes before they are sent, as long as they wait for it or are to be sent.
CREATE TABLE approval (
    fingerprint TEXT PRIMARY KEY, rule TEXT NOT NULL, system TEXT NOT NULL, kind TEXT NOT NULL, identity TEXT NOT NULL, label TEXT NOT NULL,
    asked TEXT NOT NULL, asked_by TEXT NOT NULL, expires TEXT NOT NULL, remind TEXT,
    -- The operators who caused the change, each with what they did and when, as JSON: they do not approve it.
    causes TEXT NOT NULL DEFAULT '[]'
) STRICT, WITHOUT ROWID;
-- What operators did to identities by hand: whoever caused a change is found by it.
CREATE INDEX journal_by_hand ON journal (subject, at)
    WHERE act GLOB 'role.*' OR act GLOB 'departure.*' OR act GLOB 'match.*' OR act IN ('identity.split', 'password.set');
CREATE TABLE approval_answer (
    fingerprint TEXT NOT NULL REFERENCES approval(fingerprint) ON DELETE CASCADE, level INTEGER NOT NULL, yes INTEGER NOT NULL,
    principal TEXT NOT NULL, comment TEXT NOT NULL, made TEXT NOT NULL, PRIMARY KEY (fingerprint, level)
) STRICT, WITHOUT ROWID;

-- The day that a preview shows, when it is not the day on which it was made.
ALTER TABLE change_set ADD COLUMN as_of TEXT;

-- A change that a system took into a queue of its own: where it can be asked how that went.
ALTER TABLE change ADD COLUMN place TEXT;
CREATE INDEX change_accepted ON change (id) WHERE state = 'accepted';


-- Who points to whom is known where it is needed (tide-core, nearby), and these grew with the square of a population.
DROP TABLE account_reference;
DROP TABLE membership;
