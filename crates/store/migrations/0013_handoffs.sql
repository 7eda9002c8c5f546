-- Links by which customers see their own domains, by the hash of what is in them.
CREATE TABLE handoffs (
    id uuid PRIMARY KEY,
    account_id uuid NOT NULL REFERENCES accounts ON DELETE CASCADE,
    -- The domain that it was made for; the zone, where it shows every domain of the account there.
    domain_id uuid NOT NULL REFERENCES domains ON DELETE CASCADE,
    host text COLLATE "C" NOT NULL,
    zone text COLLATE "C",
    language text,
    hash bytea NOT NULL UNIQUE,
    hint text NOT NULL,
    created_at timestamptz NOT NULL DEFAULT now(),
    expires_at timestamptz NOT NULL,
    opened_at timestamptz,
    revoked_at timestamptz,
    -- When a look was asked for by it last.
    asked_at timestamptz
);
CREATE INDEX handoffs_account ON handoffs (account_id, id);
CREATE INDEX handoffs_domain ON handoffs (domain_id, id);
CREATE INDEX handoffs_host ON handoffs (host, id);
CREATE INDEX handoffs_expiry ON handoffs (expires_at);

CREATE TRIGGER handoffs_recorded AFTER INSERT OR UPDATE OR DELETE ON handoffs FOR EACH ROW
    WHEN (current_setting('nomenta.actor', true) <> '')
    EXECUTE FUNCTION record_change('handoff', 'host', 'id domain_id created_at opened_at asked_at hash', '');

-- A zone's domains of one account.
CREATE INDEX domains_account_zone ON domains (account_id, zone, host, id) WHERE ended_at IS NULL;
