-- Which state of an account is known, as its system says it: what is told late does not replace what is newer.
ALTER TABLE account ADD COLUMN version TEXT;
