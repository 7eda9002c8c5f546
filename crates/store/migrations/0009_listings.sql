-- Listings of a large fleet: what they are sorted and filtered by stands on the rows
-- themselves, each order has an index, and counts are kept rather than counted.
CREATE EXTENSION IF NOT EXISTS pg_trgm;

-- Names are sorted by their letters' codes, whatever the database's language.
ALTER TABLE domains ALTER COLUMN host TYPE text COLLATE "C";
ALTER TABLE accounts ALTER COLUMN name TYPE text COLLATE "C";
ALTER TABLE sites ALTER COLUMN name TYPE text COLLATE "C";
ALTER TABLE ingresses ALTER COLUMN name TYPE text COLLATE "C";

ALTER TABLE domains
    ADD COLUMN ingress_id uuid REFERENCES ingresses,
    -- Who runs the DNS of its zone, as far as its name servers tell.
    ADD COLUMN operator text COLLATE "C",
    -- Codes of its open findings.
    ADD COLUMN codes text[] NOT NULL DEFAULT '{}',
    -- What a search looks through: the name, and the name in its own script. Written by
    -- the program; missing where it has yet to be.
    ADD COLUMN sought text COLLATE "C";
UPDATE domains d SET
    ingress_id = s.ingress_id,
    codes = ARRAY(SELECT code FROM findings f WHERE f.domain_id = d.id ORDER BY first_seen, code),
    sought = CASE WHEN strpos(d.host, 'xn--') = 0 THEN d.host END
FROM sites s WHERE s.id = d.site_id;
ALTER TABLE domains ALTER COLUMN ingress_id SET NOT NULL;
-- How often a search for some text is right is estimated from so many names.
ALTER TABLE domains ALTER COLUMN sought SET STATISTICS 1000;
-- Most looks change nothing that an index holds, and find room beside the row.
ALTER TABLE domains SET (fillfactor = 85);
CREATE INDEX domains_unsought ON domains (id) WHERE sought IS NULL;

DROP INDEX domains_stage;
DROP INDEX domains_site;
-- All, and all at a stage.
CREATE INDEX domains_by_name ON domains (host, id) INCLUDE (sought) WHERE ended_at IS NULL;
CREATE INDEX domains_by_age ON domains (enrolled_at, id) WHERE ended_at IS NULL;
CREATE INDEX domains_by_move ON domains (moved_at, id) WHERE ended_at IS NULL;
CREATE INDEX domains_stage_name ON domains (stage, host, id);
CREATE INDEX domains_stage_age ON domains (stage, enrolled_at, id);
CREATE INDEX domains_stage_move ON domains (stage, moved_at, id);
-- The same of one account, site, ingress or operator.
CREATE INDEX domains_account_name ON domains (account_id, stage, host, id);
CREATE INDEX domains_account_age ON domains (account_id, stage, enrolled_at, id);
CREATE INDEX domains_account_move ON domains (account_id, stage, moved_at, id);
CREATE INDEX domains_site_name ON domains (site_id, stage, host, id);
CREATE INDEX domains_site_age ON domains (site_id, stage, enrolled_at, id);
CREATE INDEX domains_site_move ON domains (site_id, stage, moved_at, id);
CREATE INDEX domains_ingress_name ON domains (ingress_id, stage, host, id);
CREATE INDEX domains_ingress_age ON domains (ingress_id, stage, enrolled_at, id);
CREATE INDEX domains_ingress_move ON domains (ingress_id, stage, moved_at, id);
CREATE INDEX domains_operator_name ON domains (operator, stage, host, id) WHERE operator IS NOT NULL;
CREATE INDEX domains_operator_age ON domains (operator, stage, enrolled_at, id) WHERE operator IS NOT NULL;
CREATE INDEX domains_operator_move ON domains (operator, stage, moved_at, id) WHERE operator IS NOT NULL;
CREATE INDEX domains_sought ON domains USING gin (sought gin_trgm_ops) WITH (fastupdate = off);

-- A finding carries what those who have it are sorted by.
ALTER TABLE findings
    ADD COLUMN host text COLLATE "C",
    ADD COLUMN stage text,
    ADD COLUMN enrolled_at timestamptz,
    ADD COLUMN moved_at timestamptz;
UPDATE findings f SET host = d.host, stage = d.stage, enrolled_at = d.enrolled_at, moved_at = d.moved_at
FROM domains d WHERE d.id = f.domain_id;
ALTER TABLE findings
    ALTER COLUMN host SET NOT NULL,
    ALTER COLUMN stage SET NOT NULL,
    ALTER COLUMN enrolled_at SET NOT NULL,
    ALTER COLUMN moved_at SET NOT NULL;
CREATE INDEX findings_name ON findings (code, stage, host, domain_id);
CREATE INDEX findings_age ON findings (code, stage, enrolled_at, domain_id);
CREATE INDEX findings_move ON findings (code, stage, moved_at, domain_id);

-- Certificates in use: of whom, by whom, until when.
ALTER TABLE certificates
    ADD COLUMN account_id uuid REFERENCES accounts,
    ADD COLUMN issuer text COLLATE "C" GENERATED ALWAYS AS (facts->>'issuer') STORED;
UPDATE certificates c SET
    account_id = d.account_id,
    replaced_at = CASE WHEN d.ended_at IS NOT NULL AND c.revoked_at IS NULL THEN coalesce(c.replaced_at, d.ended_at)
                       ELSE c.replaced_at END
FROM domains d WHERE d.id = c.domain_id;
ALTER TABLE certificates ALTER COLUMN account_id SET NOT NULL;
DROP INDEX certificates_end;
CREATE INDEX certificates_end ON certificates (not_after, id) WHERE replaced_at IS NULL AND revoked_at IS NULL;
CREATE INDEX certificates_account ON certificates (account_id, not_after, id)
    WHERE replaced_at IS NULL AND revoked_at IS NULL;
CREATE INDEX certificates_issuer ON certificates (issuer, not_after, id)
    WHERE replaced_at IS NULL AND revoked_at IS NULL;

-- Accounts and sites are searched by names of both kinds.
ALTER TABLE accounts ADD COLUMN sought text COLLATE "C" NOT NULL
    GENERATED ALWAYS AS (name || ' ' || lower(title)) STORED;
ALTER TABLE sites ADD COLUMN sought text COLLATE "C" NOT NULL
    GENERATED ALWAYS AS (name || ' ' || default_host) STORED;
ALTER TABLE accounts ALTER COLUMN sought SET STATISTICS 1000;
ALTER TABLE sites ALTER COLUMN sought SET STATISTICS 1000;
CREATE INDEX accounts_sought ON accounts USING gin (sought gin_trgm_ops) WITH (fastupdate = off);
CREATE INDEX sites_sought ON sites USING gin (sought gin_trgm_ops) WITH (fastupdate = off);
CREATE INDEX sites_account ON sites (account_id, name);

-- How many there are of each kind, of the whole fleet (the account of zeros) and of each
-- account. Whoever changes rows adds what that changes to `tallies`, so that no writer
-- waits for another; it is put together in `tally_sums` within moments, and readers add up
-- both.
CREATE TABLE tallies (
    account_id uuid NOT NULL,
    kind text NOT NULL,
    key text COLLATE "C" NOT NULL,
    n bigint NOT NULL
);
CREATE INDEX tallies_key ON tallies (kind, account_id, key) INCLUDE (n);
CREATE TABLE tally_sums (
    account_id uuid NOT NULL,
    kind text NOT NULL,
    key text COLLATE "C" NOT NULL,
    n bigint NOT NULL,
    PRIMARY KEY (kind, account_id, key)
) WITH (fillfactor = 80);
CREATE INDEX tally_sums_most ON tally_sums (kind, account_id, n DESC) INCLUDE (key);
CREATE INDEX tally_sums_none ON tally_sums (kind) WHERE n = 0;
CREATE VIEW tallied AS
    SELECT account_id, kind, key, n FROM tally_sums UNION ALL SELECT account_id, kind, key, n FROM tallies;

-- What one domain counts for.
CREATE FUNCTION counts_for(stage text, operator text, codes text[], is_primary boolean, ended_at timestamptz)
RETURNS TABLE (kind text, key text) LANGUAGE sql IMMUTABLE AS $$
    SELECT 'stage', stage
    UNION ALL SELECT 'operator', operator WHERE operator IS NOT NULL AND ended_at IS NULL
    UNION ALL SELECT 'used', '' WHERE is_primary AND ended_at IS NULL
    UNION ALL SELECT 'finding', code FROM unnest(codes) code
$$;

CREATE FUNCTION tally_domains() RETURNS trigger LANGUAGE plpgsql AS $$
BEGIN
    IF TG_OP = 'UPDATE' THEN
        -- Most looks change nothing of this.
        IF NOT EXISTS (
            SELECT FROM fresh f JOIN stale s ON s.id = f.id
            WHERE (f.stage, f.operator, f.codes, f.is_primary, f.ended_at, f.moved_at)
                  IS DISTINCT FROM (s.stage, s.operator, s.codes, s.is_primary, s.ended_at, s.moved_at)) THEN
            RETURN NULL;
        END IF;

        UPDATE findings SET stage = f.stage, moved_at = f.moved_at
        FROM fresh f JOIN stale s ON s.id = f.id
        WHERE findings.domain_id = f.id AND (f.stage, f.moved_at) IS DISTINCT FROM (s.stage, s.moved_at);
    END IF;

    IF TG_OP = 'INSERT' THEN
        INSERT INTO tallies (account_id, kind, key, n)
        SELECT o.id, t.kind, t.key, count(*)
        FROM fresh d, counts_for(d.stage, d.operator, d.codes, d.is_primary, d.ended_at) t,
             LATERAL (VALUES (d.account_id), ('00000000-0000-0000-0000-000000000000'::uuid)) o (id)
        GROUP BY o.id, t.kind, t.key;
    ELSIF TG_OP = 'DELETE' THEN
        INSERT INTO tallies (account_id, kind, key, n)
        SELECT o.id, t.kind, t.key, -count(*)
        FROM stale d, counts_for(d.stage, d.operator, d.codes, d.is_primary, d.ended_at) t,
             LATERAL (VALUES (d.account_id), ('00000000-0000-0000-0000-000000000000'::uuid)) o (id)
        GROUP BY o.id, t.kind, t.key;
    ELSE
        INSERT INTO tallies (account_id, kind, key, n)
        SELECT o.id, t.kind, t.key, sum(d.sign)
        FROM (SELECT 1 AS sign, account_id, stage, operator, codes, is_primary, ended_at FROM fresh
              UNION ALL
              SELECT -1, account_id, stage, operator, codes, is_primary, ended_at FROM stale) d,
             counts_for(d.stage, d.operator, d.codes, d.is_primary, d.ended_at) t,
             LATERAL (VALUES (d.account_id), ('00000000-0000-0000-0000-000000000000'::uuid)) o (id)
        GROUP BY o.id, t.kind, t.key HAVING sum(d.sign) <> 0;
    END IF;
    RETURN NULL;
END $$;

CREATE TRIGGER domains_added AFTER INSERT ON domains
    REFERENCING NEW TABLE AS fresh FOR EACH STATEMENT EXECUTE FUNCTION tally_domains();
CREATE TRIGGER domains_changed AFTER UPDATE ON domains
    REFERENCING OLD TABLE AS stale NEW TABLE AS fresh FOR EACH STATEMENT EXECUTE FUNCTION tally_domains();
CREATE TRIGGER domains_gone AFTER DELETE ON domains
    REFERENCING OLD TABLE AS stale FOR EACH STATEMENT EXECUTE FUNCTION tally_domains();

-- What one certificate counts for, by day: a certificate in use runs out, and is renewed.
CREATE FUNCTION counts_for(not_after timestamptz, renew_at timestamptz, replaced_at timestamptz, revoked_at timestamptz)
RETURNS TABLE (kind text, key text) LANGUAGE sql STABLE AS $$
    SELECT 'ending', to_char(not_after AT TIME ZONE 'UTC', 'YYYY-MM-DD')
    WHERE replaced_at IS NULL AND revoked_at IS NULL
    UNION ALL SELECT 'renewing', to_char(renew_at AT TIME ZONE 'UTC', 'YYYY-MM-DD')
    WHERE replaced_at IS NULL AND revoked_at IS NULL AND renew_at IS NOT NULL
$$;

CREATE FUNCTION tally_certificates() RETURNS trigger LANGUAGE plpgsql AS $$
BEGIN
    IF TG_OP = 'INSERT' THEN
        INSERT INTO tallies (account_id, kind, key, n)
        SELECT o.id, t.kind, t.key, count(*)
        FROM fresh c, counts_for(c.not_after, c.renew_at, c.replaced_at, c.revoked_at) t,
             LATERAL (VALUES (c.account_id), ('00000000-0000-0000-0000-000000000000'::uuid)) o (id)
        GROUP BY o.id, t.kind, t.key;
    ELSIF TG_OP = 'DELETE' THEN
        INSERT INTO tallies (account_id, kind, key, n)
        SELECT o.id, t.kind, t.key, -count(*)
        FROM stale c, counts_for(c.not_after, c.renew_at, c.replaced_at, c.revoked_at) t,
             LATERAL (VALUES (c.account_id), ('00000000-0000-0000-0000-000000000000'::uuid)) o (id)
        GROUP BY o.id, t.kind, t.key;
    ELSE
        INSERT INTO tallies (account_id, kind, key, n)
        SELECT o.id, t.kind, t.key, sum(c.sign)
        FROM (SELECT 1 AS sign, account_id, not_after, renew_at, replaced_at, revoked_at FROM fresh
              UNION ALL
              SELECT -1, account_id, not_after, renew_at, replaced_at, revoked_at FROM stale) c,
             counts_for(c.not_after, c.renew_at, c.replaced_at, c.revoked_at) t,
             LATERAL (VALUES (c.account_id), ('00000000-0000-0000-0000-000000000000'::uuid)) o (id)
        GROUP BY o.id, t.kind, t.key HAVING sum(c.sign) <> 0;
    END IF;
    RETURN NULL;
END $$;

CREATE TRIGGER certificates_added AFTER INSERT ON certificates
    REFERENCING NEW TABLE AS fresh FOR EACH STATEMENT EXECUTE FUNCTION tally_certificates();
CREATE TRIGGER certificates_changed AFTER UPDATE ON certificates
    REFERENCING OLD TABLE AS stale NEW TABLE AS fresh FOR EACH STATEMENT EXECUTE FUNCTION tally_certificates();
CREATE TRIGGER certificates_gone AFTER DELETE ON certificates
    REFERENCING OLD TABLE AS stale FOR EACH STATEMENT EXECUTE FUNCTION tally_certificates();

INSERT INTO tally_sums (account_id, kind, key, n)
SELECT o.id, t.kind, t.key, count(*)
FROM domains d, counts_for(d.stage, d.operator, d.codes, d.is_primary, d.ended_at) t,
     LATERAL (VALUES (d.account_id), ('00000000-0000-0000-0000-000000000000'::uuid)) o (id)
GROUP BY o.id, t.kind, t.key;
INSERT INTO tally_sums (account_id, kind, key, n)
SELECT o.id, t.kind, t.key, count(*)
FROM certificates c, counts_for(c.not_after, c.renew_at, c.replaced_at, c.revoked_at) t,
     LATERAL (VALUES (c.account_id), ('00000000-0000-0000-0000-000000000000'::uuid)) o (id)
GROUP BY o.id, t.kind, t.key;
