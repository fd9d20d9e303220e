-- What guards count before it is done.
CREATE INDEX change_in_flight ON change (system, kind)
    WHERE state IN ('queued', 'sending', 'unknown', 'accepted') AND kind IN ('disable', 'delete', 'revoke', 'move', 'password');
