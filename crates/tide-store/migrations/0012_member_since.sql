-- Memberships that we changed since a group was last kept whole: one of them costs what it is, and not what its group is long.
CREATE TABLE member_since (
    account INTEGER NOT NULL REFERENCES account(id), attribute TEXT NOT NULL, folded TEXT NOT NULL, value BLOB NOT NULL,
    there INTEGER NOT NULL, at TEXT NOT NULL, PRIMARY KEY (account, attribute, folded)
) STRICT, WITHOUT ROWID;

-- Who joined or left which group by what we wrote: the group itself is not read again for it.
ALTER TABLE touched ADD COLUMN joined INTEGER;
ALTER TABLE touched ADD COLUMN member TEXT;
ALTER TABLE touched ADD COLUMN there INTEGER;

-- A system that is looked at again and is as it was concerns nobody.
DROP TRIGGER system_changed;
CREATE TRIGGER system_changed AFTER UPDATE OF settings, writable, armed, paused, schema, own, schedule ON system
WHEN OLD.settings IS NOT NEW.settings OR OLD.writable IS NOT NEW.writable OR OLD.armed IS NOT NEW.armed OR OLD.paused IS NOT NEW.paused
  OR OLD.schema IS NOT NEW.schema OR OLD.own IS NOT NEW.own OR OLD.schedule IS NOT NEW.schedule
BEGIN
    INSERT INTO touched (account) VALUES (NULL);
END;
