-- Names are searched by their parts, in rows that are written when a domain is taken in or leaves. The
-- row of a domain is written with each of its moves, and each of its indexes with it.
CREATE TABLE searched (
    domain_id uuid PRIMARY KEY REFERENCES domains ON DELETE CASCADE,
    sought text COLLATE "C" NOT NULL
);

-- Four letters from each letter on; fewer at the end, so that a text of one letter is the beginning
-- of some part, too. Parts of three are had by ten times as many names.
CREATE FUNCTION parts_of(sought text) RETURNS tsvector LANGUAGE sql IMMUTABLE STRICT PARALLEL SAFE AS $$
    SELECT array_to_tsvector(ARRAY(SELECT substr(sought, n, 4) FROM generate_series(1, length(sought)) n))
$$;

-- The parts that every name has which is like a pattern for a text anywhere.
CREATE FUNCTION parts_like(pattern text) RETURNS tsquery LANGUAGE sql IMMUTABLE STRICT PARALLEL SAFE AS $$
    SELECT string_agg(
        '''' || replace(replace(substr(looked_for, n, 4), '\', '\\'), '''', '''''') || ''''
            || CASE WHEN length(looked_for) < 4 THEN ':*' ELSE '' END,
        ' & ')::tsquery
    FROM (SELECT regexp_replace(substr(pattern, 2, length(pattern) - 2), '\\(.)', '\1', 'g')) t (looked_for),
         generate_series(1, greatest(length(looked_for) - 3, 1)) n
$$;

-- Domains that have not left whose name is like a pattern for a text anywhere.
CREATE FUNCTION named_like(pattern text) RETURNS SETOF uuid LANGUAGE sql STABLE AS $$
    SELECT domain_id FROM searched WHERE parts_of(sought) @@ parts_like(pattern) AND sought LIKE pattern OFFSET 0
$$;

CREATE FUNCTION search_new() RETURNS trigger LANGUAGE plpgsql AS $$
BEGIN
    INSERT INTO searched (domain_id, sought)
    SELECT id, sought FROM fresh WHERE ended_at IS NULL AND sought IS NOT NULL;
    RETURN NULL;
END $$;
CREATE TRIGGER domains_searched AFTER INSERT ON domains
    REFERENCING NEW TABLE AS fresh FOR EACH STATEMENT EXECUTE FUNCTION search_new();

CREATE FUNCTION search_otherwise() RETURNS trigger LANGUAGE plpgsql AS $$
BEGIN
    DELETE FROM searched WHERE domain_id = NEW.id;
    INSERT INTO searched (domain_id, sought)
    SELECT NEW.id, NEW.sought WHERE NEW.ended_at IS NULL AND NEW.sought IS NOT NULL;
    RETURN NULL;
END $$;
CREATE TRIGGER domains_searched_otherwise AFTER UPDATE ON domains FOR EACH ROW
    WHEN ((OLD.sought, OLD.ended_at IS NULL) IS DISTINCT FROM (NEW.sought, NEW.ended_at IS NULL))
    EXECUTE FUNCTION search_otherwise();

-- Whoever takes domains in meanwhile waits, so that none is missed.
INSERT INTO searched (domain_id, sought)
SELECT id, sought FROM domains WHERE ended_at IS NULL AND sought IS NOT NULL;
-- Gathered before they are put in their places; a search reads what is gathered, so it is little.
CREATE INDEX searched_parts ON searched USING gin (parts_of(sought)) WITH (gin_pending_list_limit = 256);
DROP INDEX domains_sought;
