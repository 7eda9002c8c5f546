-- Orders and certificates may cover two domains, by several methods; renewals
-- name what they replace.
ALTER TABLE orders
    ADD COLUMN domain_ids uuid[] NOT NULL DEFAULT '{}',
    ADD COLUMN names text[] NOT NULL DEFAULT '{}',
    ADD COLUMN registered text NOT NULL DEFAULT '',
    ADD COLUMN method text NOT NULL DEFAULT 'http-01',
    ADD COLUMN replaces uuid REFERENCES certificates ON DELETE SET NULL,
    DROP COLUMN refusals;
UPDATE orders SET domain_ids = ARRAY[domain_id];
CREATE INDEX orders_domains ON orders USING gin (domain_ids);
CREATE INDEX orders_placed ON orders (registered, placed_at);

-- Never two orders on the way for one domain.
CREATE TABLE orders_in_flight (
    domain_id uuid PRIMARY KEY REFERENCES domains ON DELETE CASCADE,
    order_id uuid NOT NULL REFERENCES orders ON DELETE CASCADE
);
INSERT INTO orders_in_flight (domain_id, order_id) SELECT domain_id, id FROM orders WHERE state = 'open';

-- What happened with an order, step by step.
CREATE TABLE order_steps (
    order_id uuid NOT NULL REFERENCES orders ON DELETE CASCADE,
    at timestamptz NOT NULL DEFAULT clock_timestamp(),
    said text NOT NULL
);
CREATE INDEX order_steps_order ON order_steps (order_id, at);

ALTER TABLE challenges
    ADD COLUMN name text NOT NULL DEFAULT '',
    ADD COLUMN method text NOT NULL DEFAULT 'http-01',
    -- The certificate and its key that answer a challenge by TLS.
    ADD COLUMN answer_chain text,
    ADD COLUMN answer_key text;
CREATE INDEX challenges_name ON challenges (name);

ALTER TABLE certificates
    ALTER COLUMN order_id DROP NOT NULL,
    ADD COLUMN domain_ids uuid[] NOT NULL DEFAULT '{}',
    ADD COLUMN origin text NOT NULL DEFAULT 'ordered',
    ADD COLUMN renew_at timestamptz,
    -- Whether the domain was called for its renewal.
    ADD COLUMN called boolean NOT NULL DEFAULT false,
    -- When to ask the CA for its advice on renewal.
    ADD COLUMN advice_at timestamptz,
    ADD COLUMN replaced_at timestamptz,
    ADD COLUMN revoked_at timestamptz;
UPDATE certificates SET domain_ids = ARRAY[domain_id];
CREATE INDEX certificates_domains ON certificates USING gin (domain_ids);
CREATE INDEX certificates_renewal ON certificates (renew_at) WHERE NOT called AND revoked_at IS NULL;
CREATE INDEX certificates_advice ON certificates (advice_at) WHERE revoked_at IS NULL;
CREATE INDEX certificates_end ON certificates (not_after) WHERE replaced_at IS NULL AND revoked_at IS NULL;

-- Revocations to be carried out; they outlive the domain.
CREATE TABLE revocations (
    certificate_id uuid PRIMARY KEY,
    host text NOT NULL,
    serial text NOT NULL,
    chain_pem text NOT NULL,
    reason text NOT NULL,
    asked_at timestamptz NOT NULL,
    try_at timestamptz NOT NULL,
    tries integer NOT NULL DEFAULT 0,
    problem jsonb,
    done_at timestamptz
);
CREATE INDEX revocations_due ON revocations (try_at) WHERE done_at IS NULL;

ALTER TABLE acme_accounts
    -- Before then the CA does not want to be asked for certificates.
    ADD COLUMN throttled_until timestamptz;

-- A known secret, sealed: tells at start whether the key is the right one.
CREATE TABLE sealing (
    one boolean PRIMARY KEY DEFAULT true CHECK (one),
    box bytea NOT NULL
);

-- What a browser got at the last full look.
ALTER TABLE domains ADD COLUMN probe jsonb;

-- Where visitors enter a site, and what they get when something is missing.
ALTER TABLE sites
    ADD COLUMN entry_path text NOT NULL DEFAULT '/',
    ADD COLUMN error_path text NOT NULL DEFAULT '/';

-- Whose route, certificate or challenge has changed, in the order of commits.
CREATE TABLE edge_changes (
    seq bigserial PRIMARY KEY,
    host text NOT NULL,
    at timestamptz NOT NULL DEFAULT now()
);
CREATE INDEX edge_changes_host ON edge_changes (host);

-- A domain that has left the platform; its name may be taken in anew. What
-- happened to it stays.
ALTER TABLE domains ADD COLUMN released_at timestamptz;
ALTER TABLE events
    DROP CONSTRAINT events_domain_id_fkey,
    ADD CONSTRAINT events_domain_id_fkey FOREIGN KEY (domain_id) REFERENCES domains ON DELETE SET NULL;
CREATE INDEX events_host ON events (host, seq);
