-- First passwords that are handed to a call-out: how that went so far.
ALTER TABLE first_password ADD COLUMN attempts INTEGER NOT NULL DEFAULT 0;
ALTER TABLE first_password ADD COLUMN tried TEXT;
ALTER TABLE first_password ADD COLUMN error TEXT;
