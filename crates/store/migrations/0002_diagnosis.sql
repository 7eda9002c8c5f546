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

-- Two domains that belong together, apex and www; one of them is the primary.
ALTER TABLE domains
    ADD COLUMN pair_id uuid,
    ADD COLUMN is_primary boolean NOT NULL DEFAULT true;
CREATE INDEX domains_pair ON domains (pair_id) WHERE pair_id IS NOT NULL;

-- What a quick look must read for nothing to have changed; without it the next
-- look is a full one. How many quick ones there have been since, and when.
ALTER TABLE tasks
    ADD COLUMN quick bigint,
    ADD COLUMN quick_looks integer NOT NULL DEFAULT 0,
    ADD COLUMN seen_at timestamptz;
-- Rows are written anew twice for each look: room beside them keeps the indexes
-- out of the half of it that changes none.
ALTER TABLE tasks SET (fillfactor = 50);
DROP INDEX tasks_due;
CREATE INDEX tasks_due ON tasks (due) WHERE quick IS NULL;
CREATE INDEX tasks_due_quick ON tasks (due) WHERE quick IS NOT NULL;

-- How the routing spread over the vantages; one row for each change.
CREATE TABLE spreads (
    domain_id uuid NOT NULL REFERENCES domains ON DELETE CASCADE,
    at timestamptz NOT NULL,
    seeing text[] NOT NULL,
    asked text[] NOT NULL,
    PRIMARY KEY (domain_id, at)
);
