-- What stands behind addresses that are somebody else's, as the last visit found it: their network
-- may be visited too often for another one, and what was found once holds until the next.
ALTER TABLE sightings ADD COLUMN visit text;
DO $$ BEGIN
    ALTER TABLE sightings ALTER COLUMN visit SET COMPRESSION lz4;
EXCEPTION WHEN feature_not_supported THEN
    NULL;
END $$;
