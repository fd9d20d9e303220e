-- What changed since it was last decided about: one row for each record, or one with neither for everybody. Whatever writes, a
-- trigger notes it, so that nothing can be forgotten.
CREATE TABLE touched (seq INTEGER PRIMARY KEY AUTOINCREMENT, account INTEGER, identity TEXT) STRICT;
CREATE INDEX touched_account ON touched (account) WHERE account IS NOT NULL;
CREATE INDEX touched_identity ON touched (identity) WHERE identity IS NOT NULL;

CREATE TRIGGER account_made AFTER INSERT ON account BEGIN
    INSERT INTO touched (account) VALUES (NEW.id);
END;
CREATE TRIGGER account_changed AFTER UPDATE OF name, hash, fault, absent_since, object ON account
WHEN OLD.hash IS NOT NEW.hash OR OLD.name IS NOT NEW.name OR OLD.fault IS NOT NEW.fault OR OLD.absent_since IS NOT NEW.absent_since
  OR OLD.object IS NOT NEW.object
BEGIN
    DELETE FROM touched WHERE account = NEW.id;
    INSERT INTO touched (account) VALUES (NEW.id);
END;
CREATE TRIGGER account_gone AFTER DELETE ON account BEGIN INSERT INTO touched (account) VALUES (NULL); END;

CREATE TRIGGER identity_made AFTER INSERT ON identity BEGIN
    INSERT INTO touched (identity) VALUES (NEW.id);
END;
CREATE TRIGGER identity_changed AFTER UPDATE ON identity WHEN OLD.hash IS NOT NEW.hash OR OLD.stage IS NOT NEW.stage BEGIN
    DELETE FROM touched WHERE identity = NEW.id;
    INSERT INTO touched (identity) VALUES (NEW.id);
END;

CREATE TRIGGER link_made AFTER INSERT ON link BEGIN
    DELETE FROM touched WHERE account = NEW.account;
    DELETE FROM touched WHERE identity = NEW.identity;
    INSERT INTO touched (account) VALUES (NEW.account);
    INSERT INTO touched (identity) VALUES (NEW.identity);
END;
CREATE TRIGGER link_ended AFTER UPDATE OF ended ON link BEGIN
    DELETE FROM touched WHERE account = NEW.account;
    DELETE FROM touched WHERE identity = NEW.identity;
    INSERT INTO touched (account) VALUES (NEW.account);
    INSERT INTO touched (identity) VALUES (NEW.identity);
END;

CREATE TRIGGER answer_made AFTER INSERT ON match_answer BEGIN
    INSERT INTO touched (account) SELECT NEW.account WHERE NEW.account IS NOT NULL;
    INSERT INTO touched (identity) SELECT NEW.identity WHERE NEW.identity IS NOT NULL;
END;
CREATE TRIGGER answer_ended AFTER UPDATE OF ended ON match_answer BEGIN
    INSERT INTO touched (account) SELECT NEW.account WHERE NEW.account IS NOT NULL;
    INSERT INTO touched (identity) SELECT NEW.identity WHERE NEW.identity IS NOT NULL;
END;

CREATE TRIGGER normalised_made AFTER INSERT ON normalised BEGIN INSERT INTO touched (account) VALUES (NEW.account); END;
CREATE TRIGGER normalised_changed AFTER UPDATE ON normalised BEGIN INSERT INTO touched (account) VALUES (NEW.account); END;
CREATE TRIGGER normalised_gone AFTER DELETE ON normalised BEGIN INSERT INTO touched (account) VALUES (OLD.account); END;
CREATE TRIGGER given_made AFTER INSERT ON given BEGIN INSERT INTO touched (account) VALUES (NEW.account); END;
CREATE TRIGGER given_changed AFTER UPDATE ON given BEGIN INSERT INTO touched (account) VALUES (NEW.account); END;
CREATE TRIGGER given_gone AFTER DELETE ON given BEGIN INSERT INTO touched (account) VALUES (OLD.account); END;
CREATE TRIGGER reservation_made AFTER INSERT ON reservation BEGIN INSERT INTO touched (identity) VALUES (NEW.identity); END;

-- These are about everybody.
CREATE TRIGGER system_made AFTER INSERT ON system BEGIN INSERT INTO touched (account) VALUES (NULL); END;
CREATE TRIGGER system_changed AFTER UPDATE OF settings, writable, armed, paused, schema, own, schedule ON system BEGIN
    INSERT INTO touched (account) VALUES (NULL);
END;
CREATE TRIGGER system_gone AFTER DELETE ON system BEGIN INSERT INTO touched (account) VALUES (NULL); END;
CREATE TRIGGER rules_published AFTER INSERT ON rule_set BEGIN INSERT INTO touched (account) VALUES (NULL); END;
-- A type that was never read completely before.
CREATE TRIGGER reading_complete AFTER UPDATE OF state ON reading
WHEN NEW.state = 'complete' AND NOT EXISTS
    (SELECT 1 FROM reading r WHERE r.system = NEW.system AND r.object = NEW.object AND r.state = 'complete' AND r.id <> NEW.id)
BEGIN
    INSERT INTO touched (account) VALUES (NULL);
END;

-- The names of one identity are looked up, and what was said of one account or identity.
CREATE INDEX reservation_identity ON reservation (identity);
CREATE INDEX match_answer_account ON match_answer (account) WHERE ended IS NULL;
CREATE INDEX match_answer_identity ON match_answer (identity) WHERE ended IS NULL;
