-- Further ways into the platform.
ALTER TABLE ingresses
    ADD COLUMN name_servers text[] NOT NULL DEFAULT '{}',
    ADD COLUMN subdomain_addresses boolean NOT NULL DEFAULT true;
ALTER TABLE ingress_revisions
    ADD COLUMN name_servers text[] NOT NULL DEFAULT '{}',
    ADD COLUMN subdomain_addresses boolean NOT NULL DEFAULT true;

-- Tokens that a rotation replaced, newest first; the customer's records before
-- anything was changed; when anything moved last.
ALTER TABLE domains
    ADD COLUMN superseded text[] NOT NULL DEFAULT '{}',
    ADD COLUMN baseline jsonb,
    ADD COLUMN moved_at timestamptz NOT NULL DEFAULT now();

-- How the routing spread over the vantages; one row for each change.
CREATE TABLE spreads (
    domain_id uuid NOT NULL REFERENCES domains ON DELETE CASCADE,
    at timestamptz NOT NULL,
    seeing text[] NOT NULL,
    asked text[] NOT NULL,
    PRIMARY KEY (domain_id, at)
);
