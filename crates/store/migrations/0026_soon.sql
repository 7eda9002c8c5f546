-- How soon a domain is looked at follows from when it moved last; while somebody waits for it, it
-- is looked at as soon as it may be.
ALTER TABLE domains DROP COLUMN quiet_looks;
ALTER TABLE tasks
    ADD COLUMN awaited_until timestamptz,
    ADD COLUMN soonest timestamptz;
