-- What people said about matches. It holds until it is taken back or said anew.
CREATE TABLE match_answer (
    id INTEGER PRIMARY KEY, system TEXT NOT NULL, object TEXT NOT NULL, identity TEXT, account INTEGER REFERENCES account(id),
    said TEXT NOT NULL, label TEXT NOT NULL, principal TEXT NOT NULL, made TEXT NOT NULL, ended TEXT, ended_principal TEXT
) STRICT;
CREATE UNIQUE INDEX match_answer_open ON match_answer (system, coalesce(identity, ''), coalesce(account, 0)) WHERE ended IS NULL;
