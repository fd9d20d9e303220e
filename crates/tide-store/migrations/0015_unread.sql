-- The systems that a change set could not read completely, as a JSON list.
ALTER TABLE change_set ADD COLUMN unread TEXT NOT NULL DEFAULT '[]';
