-- How each gate stands, for those who ask only that: the edge, and the other
-- one of a pair.
ALTER TABLE domains
    ADD COLUMN ownership text,
    ADD COLUMN routing text,
    ADD COLUMN certificate text,
    ADD COLUMN serving text;
UPDATE domains SET
    ownership = gates->0->>'state', routing = gates->1->>'state',
    certificate = gates->2->>'state', serving = gates->3->>'state';
ALTER TABLE domains
    ALTER COLUMN ownership SET NOT NULL,
    ALTER COLUMN routing SET NOT NULL,
    ALTER COLUMN certificate SET NOT NULL,
    ALTER COLUMN serving SET NOT NULL;
