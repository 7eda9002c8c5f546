-- Keys by which an account's zones are written to (RFC 8945), sealed.
CREATE TABLE zone_keys (
    id uuid PRIMARY KEY,
    account_id uuid NOT NULL REFERENCES accounts ON DELETE CASCADE,
    zone text COLLATE "C" NOT NULL,
    name text NOT NULL,
    algorithm text NOT NULL,
    -- The server that takes the updates, where that is not the one which the zone names.
    server text,
    sealed bytea NOT NULL,
    given_at timestamptz NOT NULL DEFAULT now(),
    UNIQUE (account_id, zone)
);
CREATE TRIGGER zone_keys_recorded AFTER INSERT OR UPDATE OR DELETE ON zone_keys FOR EACH ROW
    WHEN (current_setting('nomenta.actor', true) <> '')
    EXECUTE FUNCTION record_change('zone-key', 'zone', 'id given_at', 'sealed');

-- Updates that were sent to customers' zones, with what takes them back.
CREATE TABLE publications (
    id uuid PRIMARY KEY,
    domain_id uuid NOT NULL REFERENCES domains ON DELETE CASCADE,
    account_id uuid NOT NULL REFERENCES accounts ON DELETE CASCADE,
    host text COLLATE "C" NOT NULL,
    zone text COLLATE "C" NOT NULL,
    server text NOT NULL,
    key_name text NOT NULL,
    change jsonb NOT NULL,
    state text NOT NULL,
    because text,
    created_at timestamptz NOT NULL DEFAULT now(),
    ended_at timestamptz
);
CREATE INDEX publications_domain ON publications (domain_id, id);
CREATE INDEX publications_age ON publications (created_at);
CREATE TRIGGER publications_recorded AFTER INSERT OR UPDATE OR DELETE ON publications FOR EACH ROW
    WHEN (current_setting('nomenta.actor', true) <> '')
    EXECUTE FUNCTION record_change('publication', 'host', 'id domain_id change created_at ended_at', '');
