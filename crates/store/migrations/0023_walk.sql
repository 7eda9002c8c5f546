-- Names that are gone along for one page of a search. Known when a statement is planned: one that
-- learned of it with each call was planned anew each time.
CREATE FUNCTION walked() RETURNS bigint LANGUAGE sql IMMUTABLE PARALLEL SAFE AS $$ SELECT 3000::bigint $$;
