-- Several accounts may claim one host; at most one claim holds it.
ALTER TABLE domains RENAME COLUMN released_at TO ended_at;
ALTER TABLE domains
    DROP CONSTRAINT domains_host_key,
    ADD COLUMN account_id uuid REFERENCES accounts,
    ADD COLUMN held_since timestamptz,
    ADD COLUMN ending text,
    ADD COLUMN paused_at timestamptz,
    -- Whether looks and orders are made for it: it has not ended, is not paused, and
    -- its account is not suspended.
    ADD COLUMN is_at_work boolean NOT NULL DEFAULT true,
    -- What stands for its site in a canonical host, whatever the site is called now.
    ADD COLUMN label text,
    -- Whether its token stands at the zone's apex, for all of the account's names there.
    ADD COLUMN is_proved_by_zone boolean NOT NULL DEFAULT false,
    -- Its own, where they differ from the site's.
    ADD COLUMN entry_path text,
    ADD COLUMN error_path text,
    -- What it shows from an hour on, and until then does not.
    ADD COLUMN next_site_id uuid REFERENCES sites,
    ADD COLUMN switch_at timestamptz;

UPDATE domains d SET
    account_id = s.account_id,
    label = s.name,
    held_since = CASE WHEN d.ended_at IS NULL AND d.ownership IN ('passed', 'lapsed') THEN now() END,
    ending = CASE WHEN d.ended_at IS NOT NULL THEN 'released' END,
    is_at_work = d.ended_at IS NULL
FROM sites s WHERE s.id = d.site_id;

ALTER TABLE domains
    ALTER COLUMN account_id SET NOT NULL,
    ALTER COLUMN label SET NOT NULL,
    ADD CONSTRAINT domains_end CHECK ((ended_at IS NULL) = (ending IS NULL)),
    ADD CONSTRAINT domains_hold CHECK (held_since IS NULL OR ended_at IS NULL);
CREATE INDEX domains_host ON domains (host, id);
CREATE UNIQUE INDEX domains_claim ON domains (account_id, host) WHERE ended_at IS NULL;
CREATE UNIQUE INDEX domains_holder ON domains (host) WHERE held_since IS NOT NULL;
CREATE INDEX domains_unproved ON domains (token_expires_at) WHERE ended_at IS NULL AND held_since IS NULL;
CREATE INDEX domains_ended ON domains (ended_at) WHERE ended_at IS NOT NULL;
CREATE INDEX domains_switch ON domains (switch_at) WHERE switch_at IS NOT NULL AND ended_at IS NULL;
CREATE INDEX domains_site ON domains (site_id) WHERE ended_at IS NULL;
DROP INDEX domains_token;
CREATE INDEX domains_token ON domains (token) WHERE ended_at IS NULL;

-- A proved claim against another's host, until it is settled.
CREATE TABLE contests (
    id uuid PRIMARY KEY,
    host text NOT NULL,
    holder_id uuid NOT NULL REFERENCES domains ON DELETE CASCADE,
    challenger_id uuid NOT NULL REFERENCES domains ON DELETE CASCADE,
    phase text NOT NULL,
    opened_at timestamptz NOT NULL,
    grace_ends_at timestamptz,
    ruled_for text,
    ruled_at timestamptz,
    ruled_by text,
    ruled_because text,
    settled_at timestamptz,
    outcome text,
    CHECK ((settled_at IS NULL) = (outcome IS NULL))
);
CREATE UNIQUE INDEX contests_challenger ON contests (challenger_id) WHERE settled_at IS NULL;
CREATE INDEX contests_host ON contests (host) WHERE settled_at IS NULL;
CREATE INDEX contests_open ON contests (opened_at, id) WHERE settled_at IS NULL;
CREATE INDEX contests_settled ON contests (settled_at, id) WHERE settled_at IS NOT NULL;

-- A shared certificate is revoked once whoever is left has one of their own.
ALTER TABLE certificates ADD COLUMN retires text;
-- What a former holder revoked is no matter of the next one.
ALTER TABLE revocations ADD COLUMN domain_id uuid;
UPDATE revocations r SET domain_id = c.domain_id FROM certificates c WHERE c.id = r.certificate_id;
CREATE INDEX revocations_domain ON revocations (domain_id, asked_at);

-- What the platform knows of its customers.
ALTER TABLE accounts
    ADD COLUMN contact text,
    ADD COLUMN language text NOT NULL DEFAULT 'en',
    ADD COLUMN notes text NOT NULL DEFAULT '',
    ADD COLUMN allowance integer CHECK (allowance >= 0),
    ADD COLUMN suspended_at timestamptz;

-- What stands for a site in a canonical host stays when it is renamed, and its
-- former default hosts lead to the one of now.
ALTER TABLE sites ADD COLUMN label text;
UPDATE sites SET label = name;
ALTER TABLE sites ALTER COLUMN label SET NOT NULL;
CREATE UNIQUE INDEX sites_label ON sites (label);
CREATE TABLE former_hosts (
    host text PRIMARY KEY,
    site_id uuid NOT NULL REFERENCES sites ON DELETE CASCADE,
    since timestamptz NOT NULL DEFAULT now()
);
CREATE INDEX former_hosts_site ON former_hosts (site_id);

-- A key may open one account alone.
ALTER TABLE access_keys ADD COLUMN account_id uuid REFERENCES accounts;
