-- The system itself said that an account is gone; else a complete reading did not show it. Of those that are absent already it is not known.
ALTER TABLE account ADD COLUMN absence_confirmed INTEGER NOT NULL DEFAULT 0;

DROP TRIGGER account_changed;
CREATE TRIGGER account_changed AFTER UPDATE OF name, hash, fault, absent_since, absence_confirmed, object ON account
WHEN OLD.hash IS NOT NEW.hash OR OLD.name IS NOT NEW.name OR OLD.fault IS NOT NEW.fault OR OLD.absent_since IS NOT NEW.absent_since
  OR OLD.absence_confirmed IS NOT NEW.absence_confirmed OR OLD.object IS NOT NEW.object
BEGIN
    INSERT INTO touched (account) VALUES (NEW.id);
END;
