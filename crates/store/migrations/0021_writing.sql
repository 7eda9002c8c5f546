-- Parts of names are gathered before they are put in their places: every move of a domain writes
-- them anew, of which most are the same for all. A search reads what is gathered, so it is little.
ALTER INDEX domains_sought SET (fastupdate = on, gin_pending_list_limit = 256);

-- What a look read is compressed faster where the server can.
DO $$ BEGIN
    ALTER TABLE domains
        ALTER COLUMN survey SET COMPRESSION lz4,
        ALTER COLUMN baseline SET COMPRESSION lz4,
        ALTER COLUMN probe SET COMPRESSION lz4,
        ALTER COLUMN gates SET COMPRESSION lz4;
EXCEPTION WHEN feature_not_supported THEN
    NULL;
END $$;
