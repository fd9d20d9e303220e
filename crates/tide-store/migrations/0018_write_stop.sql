-- All writes to all systems are stopped until an operator lifts this. There is one row at most.
CREATE TABLE write_stop (
    id INTEGER PRIMARY KEY CHECK (id = 1), reason TEXT NOT NULL, principal TEXT NOT NULL, made_at TEXT NOT NULL
) STRICT;
