-- What looks read stands apart from where domains stand. Every look writes it, and no index hangs on
-- it; the rows that listings go through stay small, and one that a look leaves where it was is
-- written beside itself. Nobody asks for a part of it, so it is text, which the server does not
-- take to pieces.
CREATE TABLE sightings (
    domain_id uuid PRIMARY KEY REFERENCES domains ON DELETE CASCADE,
    survey text NOT NULL,
    baseline text,
    probe text
);
-- Compressed faster where the server can.
DO $$ BEGIN
    ALTER TABLE sightings
        ALTER COLUMN survey SET COMPRESSION lz4,
        ALTER COLUMN baseline SET COMPRESSION lz4,
        ALTER COLUMN probe SET COMPRESSION lz4;
EXCEPTION WHEN feature_not_supported THEN
    NULL;
END $$;

INSERT INTO sightings (domain_id, survey, baseline, probe)
SELECT id, survey::text, baseline::text, probe::text FROM domains WHERE survey IS NOT NULL;
ALTER TABLE domains DROP COLUMN survey, DROP COLUMN baseline, DROP COLUMN probe;
