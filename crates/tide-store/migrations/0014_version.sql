-- Which state of an account is known, as its system says it: what is told late does not replace what is newer.
ALTER TABLE account ADD COLUMN version TEXT;

-- Something else was told of it while we wrote to it, by a system that does not say which state is the later one.
ALTER TABLE account ADD COLUMN overtaken INTEGER NOT NULL DEFAULT 0;

-- Who has a name in a directory now: asked before a former name is taken out of a group.
CREATE INDEX account_dn ON account (system, name COLLATE NOCASE) WHERE instr(name, '=') > 0;
