-- Before each decision it is looked whether a backup was restored.
CREATE INDEX reading_outdated ON reading (id) WHERE state = 'outdated';
