-- Memberships that we changed since a group was last kept whole: one of them costs what it is, and not what its group is long.
CREATE TABLE member_since (
    account INTEGER NOT NULL REFERENCES account(id), attribute TEXT NOT NULL, folded TEXT NOT NULL, value BLOB NOT NULL,
    there INTEGER NOT NULL, at TEXT NOT NULL, PRIMARY KEY (account, attribute, folded)
) STRICT, WITHOUT ROWID;

-- Who joined or left which group by what we wrote: the group itself is not read again for it.
ALTER TABLE touched ADD COLUMN joined INTEGER;
ALTER TABLE touched ADD COLUMN member TEXT;
ALTER TABLE touched ADD COLUMN there INTEGER;
