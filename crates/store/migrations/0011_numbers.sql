-- Events and changes for the edge are written without a number, and numbered once they are
-- committed: by one process at a time, for all that have come until then. So no look waits
-- for another to be written, and numbers still come in the order of commits.
CREATE TABLE events_new (
    place bigserial PRIMARY KEY,
    id uuid NOT NULL,
    domain_id uuid,
    account_id uuid,
    host text,
    kind text NOT NULL,
    at timestamptz NOT NULL,
    data jsonb NOT NULL
);
CREATE TABLE edge_new (
    place bigserial PRIMARY KEY,
    host text NOT NULL
);

-- Whose domain it happened to, for those who see no others.
ALTER TABLE events ADD COLUMN account_id uuid;
UPDATE events e SET account_id = d.account_id FROM domains d WHERE d.id = e.domain_id;
CREATE INDEX events_account ON events (account_id, seq);
