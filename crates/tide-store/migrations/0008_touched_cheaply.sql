-- Notes of what changed are only added, and read in their order: no look-ups, and no numbers kept elsewhere. Whoever decides takes
-- them away, but for the last one, so that no number is given again.
DROP TABLE touched;
CREATE TABLE touched (seq INTEGER PRIMARY KEY, account INTEGER, identity TEXT) STRICT;

DROP TRIGGER account_changed;
CREATE TRIGGER account_changed AFTER UPDATE OF name, hash, fault, absent_since, object ON account
WHEN OLD.hash IS NOT NEW.hash OR OLD.name IS NOT NEW.name OR OLD.fault IS NOT NEW.fault OR OLD.absent_since IS NOT NEW.absent_since
  OR OLD.object IS NOT NEW.object
BEGIN
    INSERT INTO touched (account) VALUES (NEW.id);
END;
DROP TRIGGER identity_changed;
CREATE TRIGGER identity_changed AFTER UPDATE ON identity WHEN OLD.hash IS NOT NEW.hash OR OLD.stage IS NOT NEW.stage BEGIN
    INSERT INTO touched (identity) VALUES (NEW.id);
END;
DROP TRIGGER link_made;
CREATE TRIGGER link_made AFTER INSERT ON link BEGIN
    INSERT INTO touched (account, identity) VALUES (NEW.account, NEW.identity);
END;
DROP TRIGGER link_ended;
CREATE TRIGGER link_ended AFTER UPDATE OF ended ON link BEGIN
    INSERT INTO touched (account, identity) VALUES (NEW.account, NEW.identity);
END;
